<script setup lang="ts">
// Disable several clients, withdraw their credentials, remove them: first what that takes along and what stands against
// it, then one by one with what came of it.
import { NButton } from "naive-ui";
import { computed, ref, watch } from "vue";
import { type Schemas, api, must } from "@/api/client";
import { inShort, problemOf } from "@/api/problems";
import { can, directory } from "@/api/session";
import { useRemovalPreview } from "@/api/reads/clients";
import { useStale } from "@/api/reads/directory";
import { count } from "@/ui/use/words";
import Loadable from "@/ui/Loadable.vue";
import Moment from "@/ui/Moment.vue";
import StateWord from "@/ui/StateWord.vue";
import TextField from "@/ui/forms/TextField.vue";
import { t } from "@/texts/sentences";

const props = defineProps<{ clients: string[] }>();
const emit = defineEmits<{ closed: [] }>();
const { data, error, isLoading, refetch } = useRemovalPreview(() => props.clients);
const reason = ref("");
const outcomes = ref<Record<string, string>>({});
const running = ref(false);
const done = ref(0);
const REMOVED = "removed";
const stale = useStale();
// What was removed is not told again, and stays to be seen.
const known = ref<Record<string, Schemas["RemovalPreview"]>>({});
watch(data, (now) => (known.value = { ...known.value, ...Object.fromEntries((now ?? []).map((one) => [one.client_id, one])) }), {
  immediate: true,
});
const rows = computed(() => props.clients.flatMap((id) => known.value[id] ?? []));
const left = computed(() => rows.value.filter((one) => outcomes.value[one.client_id] !== REMOVED));
const live = computed(() => left.value.filter((one) => !one.disabled_since));
// A client that is live may be missed: its credentials are withdrawn when it is disabled.
const working = computed(() => left.value.filter((one) => one.disabled_since && one.credentials.length));
const ready = computed(() => left.value.filter((one) => !one.against.length));

async function each(ids: string[], work: (id: string) => Promise<string>): Promise<void> {
  running.value = true;
  done.value = 0;
  for (const id of ids) {
    try {
      outcomes.value = { ...outcomes.value, [id]: await work(id) };
    } catch (problem) {
      outcomes.value = { ...outcomes.value, [id]: inShort(problemOf(problem)) };
    }
    done.value += 1;
  }
  running.value = false;
  await stale();
}
const at = (client: string) => ({ params: { path: { directory: directory.value, client } } });
const disable = () =>
  each(
    live.value.map((one) => one.client_id),
    async (id) => {
      await must(
        api.POST("/api/v1/directories/{directory}/clients/{client}/state", {
          ...at(id),
          body: { state: "disabled", reason: reason.value },
        }),
      );
      return t`disabled`;
    },
  );
const remove = () =>
  each(
    ready.value.map((one) => one.client_id),
    async (id) => {
      await must(
        api.POST("/api/v1/directories/{directory}/clients/{client}/removal", {
          ...at(id),
          body: { reason: reason.value },
        }),
      );
      return REMOVED;
    },
  );
const withdraw = () =>
  each(
    working.value.map((one) => one.client_id),
    async (id) => {
      const standing = known.value[id]?.credentials ?? [];
      for (const { id: credential } of standing) {
        const params = { path: { directory: directory.value, client: id, credential } };
        await must(
          api.POST("/api/v1/directories/{directory}/clients/{client}/credentials/{credential}/withdrawal", {
            params,
            body: { reason: reason.value },
          }),
        );
      }
      return t`${count(standing.length, "credential")} withdrawn`;
    },
  );
</script>

<template>
  <section class="card stack" aria-label="Clean up">
    <h2>
      Clean up {{ count(clients.length, "client") }}
      <span class="soft small">first disable, wait whether somebody misses it, then remove; a removed one can be restored for a while</span>
    </h2>
    <Loadable :loading="isLoading" :error="error" :ready="!!data" :lines="4" :retry="refetch">
      <table class="log">
        <thead>
          <tr>
            <th scope="col">Client</th>
            <th scope="col">Last token</th>
            <th scope="col">Ends with it</th>
            <th scope="col">What stands against it</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="one in rows" :key="one.client_id">
            <td class="free name">
              {{ one.name }}
              <div class="soft small">{{ one.owners.join(", ") || t`nobody owns it` }}</div>
            </td>
            <td class="nowrap small"><Moment :at="one.last_used_at" /></td>
            <td class="free small">
              {{ [...one.consents, ...one.roles].join("; ") || t`nothing`
              }}<template v-if="one.requests">; {{ count(one.requests, "waiting request") }}</template>
              <div v-if="one.elsewhere.length" class="soft">named in the reach of {{ one.elsewhere.join(", ") }}</div>
            </td>
            <td class="free small">
              <div v-if="outcomes[one.client_id]">
                <strong>{{ outcomes[one.client_id] }}</strong>
              </div>
              <template v-if="outcomes[one.client_id] !== REMOVED">
                <StateWord v-if="!one.against.length" tone="live" word="can be removed" />
                <template v-else>{{ one.against.join("; ") }}</template>
              </template>
            </td>
          </tr>
        </tbody>
      </table>
      <TextField v-model="reason" label="Why" hint="for the ledger" :longest="500" />
      <p v-if="running" role="status" class="small">{{ done }} done …</p>
      <div class="row">
        <NButton @click="emit('closed')">{{ Object.keys(outcomes).length ? t`Done` : t`Cancel` }}</NButton>
        <NButton v-if="live.length && can('clients.set-state')" :disabled="running" @click="disable">Disable {{ live.length }}</NButton>
        <NButton v-if="working.length && can('credentials.withdraw')" :disabled="running" @click="withdraw"
          >Withdraw the credentials of {{ working.length }}</NButton
        >
        <NButton v-if="ready.length && can('clients.remove')" type="error" ghost :disabled="running" @click="remove"
          >Remove {{ ready.length }}</NButton
        >
      </div>
    </Loadable>
  </section>
</template>

<style scoped>
section {
  margin-bottom: var(--s4);
}
.name {
  min-width: 190px;
  font-weight: 560;
}
.nowrap {
  white-space: nowrap;
}
</style>
