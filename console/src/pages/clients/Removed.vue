<script setup lang="ts">
// What was removed, until when it can be restored, and what it held.
import { NButton } from "naive-ui";
import { ref } from "vue";
import { api, must } from "@/api/client";
import { can, directory } from "@/api/session";
import { readRemoved, useRemoved } from "@/api/reads/clients";
import { useStale } from "@/api/reads/directory";
import ExportList from "@/ui/ExportList.vue";
import { useAttempt } from "@/ui/use/attempt";
import FindWord from "@/ui/forms/FindWord.vue";
import Loadable from "@/ui/Loadable.vue";
import Moment from "@/ui/Moment.vue";
import MoreRows from "@/ui/MoreRows.vue";
import PageHead from "@/ui/PageHead.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import { day, now } from "@/ui/use/times";
import { count } from "@/ui/use/words";
import AuditTabs from "@/pages/audit/AuditTabs.vue";
import { t } from "@/texts/sentences";

const word = ref("");
const { items, total, error: unread, isLoading, refetch, hasNextPage, isFetchingNextPage, fetchNextPage } = useRemoved(word);
const { busy, error, attempt } = useAttempt();
const stale = useStale();
const sure = ref("");
const back = ref<{ id: string; name: string } | null>(null);
const restore = (id: string) =>
  attempt(async () => {
    const done = await must(
      api.POST("/api/v1/directories/{directory}/clients/{client}/restoration", {
        params: { path: { directory: directory.value, client: id } },
      }),
    );
    back.value = done;
    sure.value = "";
    await stale();
  });
</script>

<template>
  <PageHead
    title="Removed"
    :count="total === null ? '' : count(total, 'client')"
    lead="A removed client holds nothing and gets no token; for a while it can be restored with what it held"
  >
    <template #below><AuditTabs /></template>
  </PageHead>
  <p v-if="back" role="status">
    <RouterLink :to="{ name: 'dossier', params: { id: back.id } }">{{ back.name }}</RouterLink> is back, disabled: enable it, and add a
    credential.
  </p>
  <ProblemNote v-if="error" :error="error" />
  <Loadable :loading="isLoading" :error="unread" :ready="total !== null" :lines="6" :retry="refetch">
    <FindWord v-model="word" label="Find a removed client" :shown="items.length" :total="total" />
    <p v-if="!items.length && !word" class="empty">
      Nothing was removed. Clients are removed from the list of clients, once they are disabled and their credentials are dead.
    </p>
    <table v-else-if="items.length" class="log">
      <thead>
        <tr>
          <th scope="col">Client</th>
          <th scope="col">Removed</th>
          <th scope="col">Why</th>
          <th scope="col">Held</th>
          <th scope="col">Can be restored</th>
          <th scope="col"><span class="visually-hidden">Restore</span></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="one in items" :key="one.client_id">
          <td class="free name">
            {{ one.name }}
            <div class="soft small">
              <code>{{ one.client_id }}</code>
            </div>
          </td>
          <td class="nowrap">
            <Moment :at="one.removed_at" />
            <div class="soft small">by {{ one.removed_by }}</div>
          </td>
          <td class="free small">{{ one.reason || "–" }}</td>
          <td class="free small">{{ [...one.consents, ...one.roles].join(", ") || t`nothing` }}</td>
          <td class="nowrap">
            <template v-if="Date.parse(one.restore_until) > now">until {{ day(one.restore_until) }}</template
            ><span v-else class="soft">no more</span>
          </td>
          <td class="nowrap">
            <template v-if="can('clients.restore') && Date.parse(one.restore_until) > now">
              <button v-if="sure !== one.client_id" type="button" class="link-button" @click="sure = one.client_id">Restore</button>
              <span v-else class="row"
                ><NButton size="small" @click="sure = ''">Cancel</NButton
                ><NButton size="small" type="primary" :loading="busy" :disabled="busy" @click="restore(one.client_id)"
                  >Restore it, disabled</NButton
                ></span
              >
            </template>
          </td>
        </tr>
      </tbody>
    </table>
    <MoreRows :shown="items.length" :more="!!hasNextPage" :busy="isFetchingNextPage" @more="fetchNextPage()" />
    <ExportList v-if="items.length" name="removed" what="this list" :read="(cursor) => readRemoved(word, cursor)" />
  </Loadable>
</template>

<style scoped>
.name {
  font-weight: 560;
}
.nowrap {
  white-space: nowrap;
}
.empty {
  padding: var(--s4) 0;
}
</style>
