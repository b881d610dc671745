<script setup lang="ts">
// A letter, not a form: who asks for what and why, what becomes possible, and a no that costs nothing.
import { NButton, NCheckbox } from "naive-ui";
import { computed, ref } from "vue";
import { useRoute, useRouter } from "vue-router";
import { type Schemas, api, must } from "@/api/client";
import { can, current, directory } from "@/api/session";
import { useConsent, useStale } from "@/api/use";
import Loadable from "@/ui/Loadable.vue";
import Moment from "@/ui/Moment.vue";
import ProblemNote from "@/ui/ProblemNote.vue";

const route = useRoute();
const router = useRouter();
const id = computed(() => String(route.params.id));
const { data: whole, error, isLoading, refetch } = useConsent(id, null);
const dropped = ref<string[]>([]);
const waiting = computed(() => (whole.value?.resources ?? []).flatMap((place) => place.asks));
const chosen = computed(() => waiting.value.filter((ask) => !dropped.value.includes(ask.id)));
const narrowed = computed(() => (dropped.value.length ? chosen.value.map((ask) => ask.id) : null));
const { data: shown } = useConsent(id, narrowed);
const letter = computed(() => (chosen.value.length ? shown.value : undefined));
const busy = ref(false);
const failed = ref<unknown>(null);
const stale = useStale();

const count = (many: number, one: string) => `${many} ${one}${many === 1 ? "" : "s"}`;
const newly = computed(() => (letter.value?.resources ?? []).reduce((sum, place) => sum + place.newly.length, 0));
const grave = (one: Schemas["Operation"]) => one.effect === "control" || one.data_class === "restricted" || (one.effect === "write" && one.data_class === "personal");
const reasons = computed(() => [...new Set(waiting.value.map((ask) => ask.reason).filter(Boolean))]);

const back = () => router.push({ name: "dossier", params: { id: id.value } });
async function grant(): Promise<void> {
  busy.value = true;
  failed.value = null;
  try {
    await must(
      api.POST("/api/v1/directories/{directory}/clients/{client}/consent", {
        params: { path: { directory: directory.value, client: id.value } },
        body: { asks: chosen.value.map((ask) => ask.id), reason: "" },
      }),
    );
    await stale();
    await back();
  } catch (problem) {
    failed.value = problem;
    await refetch();
  } finally {
    busy.value = false;
  }
}
</script>

<template>
  <Loadable page :loading="isLoading" :error="error" :ready="!!whole" :lines="10" :retry="refetch">
    <article v-if="whole" class="letter">
      <p class="soft small"><RouterLink :to="{ name: 'dossier', params: { id } }">{{ whole.client_name }}</RouterLink> · consent in {{ current?.directory_name }}</p>
      <template v-if="!waiting.length">
        <h1 tabindex="-1">{{ whole.client_name }} waits for nothing</h1>
        <p>Everything it asks for is granted, or it asks for nothing.</p>
        <div><NButton type="primary" @click="back">Back to the client</NButton></div>
      </template>
      <template v-else>
        <h1 tabindex="-1">{{ whole.client_name }} asks for {{ count(waiting.length, "permission") }}</h1>
        <p class="lead">
          Its purpose: {{ whole.purpose }}.
          Asked by {{ [...new Set(waiting.map((ask) => ask.asked_by))].join(" and ") }}, <Moment :at="waiting[0]?.asked_at" />.
          <template v-if="reasons.length && reasons[0] !== whole.purpose">Reason: {{ reasons.join("; ") }}.</template>
        </p>

        <section aria-labelledby="asks">
          <h2 id="asks">What it asks for</h2>
          <ul class="asks">
            <li v-for="ask in waiting" :key="ask.id">
              <NCheckbox :checked="!dropped.includes(ask.id)" @update:checked="(on: boolean) => (dropped = on ? dropped.filter((one) => one !== ask.id) : [...dropped, ask.id])">
                <code>{{ ask.permission }}</code> at {{ ask.resource }}, {{ ask.kind === "application" ? "as itself: for everyone's records, day and night" : "as a person" }}
              </NCheckbox>
            </li>
          </ul>
        </section>

        <section aria-labelledby="newly" aria-live="polite">
          <h2 id="newly">What becomes possible</h2>
          <p v-if="!letter">Nothing: no permission is chosen.</p>
          <template v-for="place in letter?.resources" v-else :key="place.resource">
            <p v-if="!place.newly.length">At {{ place.title }}: nothing new, all of it is possible already.</p>
            <table v-else class="log">
              <caption>At <strong>{{ place.title }}</strong>, {{ count(place.newly.length, "operation") }} that it cannot do today <span class="soft">(weight {{ place.added_weight }})</span></caption>
              <thead><tr><th scope="col">Operation</th><th scope="col">Request</th><th scope="col">Effect</th><th scope="col">Data</th><th scope="col" class="num">Weight</th></tr></thead>
              <tbody>
                <tr v-for="one in place.newly" :key="one.name">
                  <td><strong v-if="grave(one)" class="grave"><span aria-hidden="true">▲</span> {{ one.title }}</strong><template v-else>{{ one.title }}</template></td>
                  <td class="free"><code>{{ one.method }} {{ one.path }}</code></td>
                  <td>{{ one.effect }}</td>
                  <td>{{ one.data_class }}</td>
                  <td class="num">{{ one.weight }}</td>
                </tr>
              </tbody>
            </table>
            <p v-if="place.implied.length" class="soft">Comes along, because it is implied: <code>{{ place.implied.join(", ") }}</code></p>
            <p v-if="place.redundant.length" class="soft">Redundant, another of these implies it: <code>{{ place.redundant.join(", ") }}</code></p>
            <p v-if="place.unchanged.length" class="soft">{{ count(place.unchanged.length, "operation") }} it can do already stay as they are.</p>
          </template>
        </section>

        <ProblemNote v-if="failed" :error="failed" />
        <footer v-if="can('consent.grant')" class="row decide">
          <NButton type="primary" size="large" @click="back">Do not grant</NButton>
          <NButton size="large" :disabled="!chosen.length || busy" :loading="busy" @click="grant">
            {{ chosen.length ? `Grant ${count(chosen.length, "permission")}: ${count(newly, "new operation")}` : "Nothing chosen" }}
          </NButton>
          <span class="soft small">Not granting changes nothing: the ask keeps waiting.</span>
        </footer>
        <p v-else class="decide soft">Consent takes the role of an approver or steward; you are {{ current?.person.roles.join(", ") || "without a role" }}. Send one of them this page's address.</p>
      </template>
    </article>
  </Loadable>
</template>

<style scoped>
.letter { max-width: 800px; background: var(--card); border: 1px solid var(--line); border-top: 3px solid var(--ink); padding: var(--s5) var(--s6); display: grid; gap: var(--s4); }
h1 { font-size: var(--t-h1); font-weight: 660; letter-spacing: -0.015em; line-height: 1.2; }
.lead { font-size: var(--t-lead); }
section { display: grid; gap: var(--s2); }
caption { text-align: left; padding-bottom: 5px; }
.grave { color: var(--broken); }
.grave span { font-size: 0.75em; }
.decide { border-top: 1px solid var(--line-strong); padding-top: var(--s4); }
</style>
