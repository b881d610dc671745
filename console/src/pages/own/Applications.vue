<script setup lang="ts">
// What clients do for whoever is signed in: seen, and ended.
import { NButton } from "naive-ui";
import { ref } from "vue";
import { useQuery, useQueryClient } from "@tanstack/vue-query";
import { api, must } from "@/api/client";
import Loadable from "@/ui/Loadable.vue";
import Moment from "@/ui/Moment.vue";
import PageHead from "@/ui/PageHead.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import { say } from "@/texts";
import Said from "@/texts/Said";

// As many as the service tells.
const MOST = 200;
const KEY = ["own", "authorizations"];
const queries = useQueryClient();
const { data, error, isLoading, refetch } = useQuery({
  queryKey: KEY,
  queryFn: () => must(api.GET("/api/v1/session/authorizations")),
});
const asking = ref("");
const ended = ref("");
const failed = ref<unknown>(null);

async function end(id: string, name: string): Promise<void> {
  failed.value = null;
  try {
    await must(api.DELETE("/api/v1/session/authorizations/{authorization}", { params: { path: { authorization: id } } }));
    ended.value = say("applications.ended", { application: name });
    asking.value = "";
    await queries.invalidateQueries({ queryKey: KEY });
  } catch (problem) {
    failed.value = problem;
  }
}
</script>

<template>
  <PageHead :title="say('applications.title')" :lead="say('applications.lead')" />
  <p v-if="ended" role="status">{{ ended }}</p>
  <ProblemNote v-if="failed" :error="failed" />
  <Loadable :loading="isLoading" :error="error" :ready="!!data" :retry="refetch">
    <p v-if="!data?.length" class="empty">{{ say("applications.none") }}</p>
    <table v-else class="log">
      <thead>
        <tr>
          <th scope="col">{{ say("applications.application") }}</th>
          <th scope="col">{{ say("applications.may") }}</th>
          <th scope="col">{{ say("all.since") }}</th>
          <th scope="col">{{ say("all.last_used") }}</th>
          <th scope="col">{{ say("all.until") }}</th>
          <th scope="col">
            <span class="visually-hidden">{{ say("all.end_it") }}</span>
          </th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="one in data" :key="one.id">
          <td class="free">
            {{ one.client_name }}
            <div v-if="one.publisher" class="soft small">{{ say("applications.by", { maker: one.publisher }) }}</div>
          </td>
          <td class="free">
            <Said v-if="one.permissions.length" text="applications.may_at">
              <template #permissions>{{ one.permissions.map((part) => part.title).join(", ") }}</template>
              <template #place
                ><span class="soft">{{ say("applications.at", { resource: one.resource }) }}</span></template
              >
            </Said>
            <span v-else class="soft">{{ say("applications.knows") }}</span>
          </td>
          <td><Moment :at="one.since" /></td>
          <td>
            <Moment v-if="one.last_used_at" :at="one.last_used_at" /><span v-else class="soft">{{ say("applications.not_seen") }}</span>
          </td>
          <td><Moment :at="one.stays_until" /></td>
          <td>
            <div v-if="asking === one.id" class="row">
              <NButton size="small" @click="asking = ''">{{ say("all.cancel") }}</NButton>
              <NButton size="small" type="error" @click="end(one.id, one.client_name)">{{ say("applications.end_now") }}</NButton>
            </div>
            <NButton v-else size="small" @click="asking = one.id">{{ say("all.end") }}</NButton>
          </td>
        </tr>
      </tbody>
    </table>
    <p v-if="data && data.length >= MOST" class="soft">{{ say("applications.newest", { most: MOST }) }}</p>
  </Loadable>
</template>
