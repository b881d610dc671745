<script setup lang="ts">
// Rotation: what is due, what is in overlap and who still uses the old one, what is overdue, and what was done lately.
import { NButton } from "naive-ui";
import { computed, ref } from "vue";
import { useRoute, useRouter } from "vue-router";
import type { Schemas } from "@/api/client";
import { can } from "@/api/session";
import { useBoard } from "@/api/use";
import Loadable from "@/ui/Loadable.vue";
import Moment from "@/ui/Moment.vue";
import PageHead from "@/ui/PageHead.vue";
import { ago, now } from "@/ui/times";
import OpenDue from "./rotation/OpenDue.vue";
import RotationRow from "./rotation/RotationRow.vue";

type Rotation = Schemas["Rotation"];
const route = useRoute();
const router = useRouter();
const WITHIN = [14, 30, 60, 90];
const within = computed(() => (WITHIN.includes(Number(route.query.within)) ? Number(route.query.within) : 30));
const { data, error, isLoading, refetch } = useBoard(within);
const opening = ref(false);
const held = ref(false);
const chosen = ref(new Set<string>());
const due = computed(() => data.value?.due ?? []);
const picked = computed(() => due.value.filter((one) => chosen.value.has(one.credential.id)));
interface Part { states: string[]; title: string; hint: string }
const URGENT: Part[] = [
  { states: ["overdue"], title: "Overdue", hint: "the overlap is over and the old one is not quiet: find what still uses it, extend, or force" },
  { states: ["quiet"], title: "Ready to close", hint: "nothing uses the old one any more" },
];
const LATER: Part[] = [
  { states: ["opened", "proven"], title: "In overlap", hint: "both are valid" },
  { states: ["closed", "abandoned"], title: "Done lately", hint: "in the last thirty days" },
];
const inPart = (states: string[]): Rotation[] => (data.value?.rotations ?? []).filter((one) => states.includes(one.state));
function choose(id: string, on: boolean): void {
  const next = new Set(chosen.value);
  if (on) next.add(id);
  else next.delete(id);
  chosen.value = next;
}
function done(): void {
  opening.value = held.value = false;
  chosen.value = new Set();
}
</script>

<template>
  <PageHead title="Rotation" :count="data ? `${due.length} due, ${data.rotations.filter((one) => !one.ended_at).length} under way` : ''" lead="Each credential is followed by another before it ends; both are valid until nothing uses the old one">
    <NButton v-if="can('rotations.open') && picked.length && !opening" type="primary" @click="opening = true">Open {{ picked.length }} {{ picked.length === 1 ? "rotation" : "rotations" }}</NButton>
    <template #below>
      <nav class="row tabs" aria-label="Due within">
        <span class="soft small">Due within</span>
        <RouterLink v-for="days in WITHIN" :key="days" :to="{ query: { within: days } }" :aria-current="within === days ? 'page' : undefined">{{ days }} days</RouterLink>
      </nav>
    </template>
  </PageHead>
  <OpenDue v-if="opening" :due="picked" @opened="held = true" @closed="done" />
  <div v-show="!held">
  <Loadable :loading="isLoading" :error="error" :ready="!!data" :lines="14" :retry="refetch">
    <template v-for="part in URGENT" :key="part.title">
      <section v-if="inPart(part.states).length" :aria-label="part.title">
        <h2 :class="{ late: part.title === 'Overdue' }">{{ part.title }} <span class="soft small">{{ part.hint }}</span></h2>
        <table class="log even">
          <thead><tr><th scope="col">Client</th><th scope="col">Old → new</th><th scope="col">Who uses the old one</th><th scope="col">New one first used</th><th scope="col">{{ part.states.includes("closed") ? "Ended" : "Overlap ends" }}</th><th scope="col"><span class="visually-hidden">Steps</span></th></tr></thead>
          <RotationRow v-for="one in inPart(part.states)" :key="one.id" :one="one" />
        </table>
      </section>
    </template>
    <section v-if="due.length" aria-labelledby="due">
      <h2 id="due">Due <span class="soft small">they end within {{ within }} days and nothing follows them yet</span></h2>
      <table class="log">
        <thead><tr><th scope="col"><span class="visually-hidden">Choose</span></th><th scope="col">Client</th><th scope="col">Credential</th><th scope="col">Ends</th><th scope="col">Last used</th><th scope="col">If opened now, both stand until</th></tr></thead>
        <tbody>
          <tr v-for="one in due" :key="one.credential.id">
            <td><input v-if="can('rotations.open')" type="checkbox" :disabled="opening" :aria-label="`Choose ${one.client_name}, ${one.credential.hint}`" :checked="chosen.has(one.credential.id)" @change="choose(one.credential.id, ($event.target as HTMLInputElement).checked)" /></td>
            <td class="free"><RouterLink :to="{ name: 'dossier', params: { id: one.client_id }, hash: '#credentials' }">{{ one.client_name }}</RouterLink></td>
            <td><code class="hint-code">{{ one.credential.hint }}</code> <div v-if="one.credential.label" class="soft small">{{ one.credential.label }}</div></td>
            <td class="nowrap"><Moment :at="one.credential.expires_at" /></td>
            <td class="nowrap"><Moment :at="one.credential.last_used_at" /></td>
            <td class="nowrap">{{ ago(one.overlap_ends_at, now) }}</td>
          </tr>
        </tbody>
      </table>
    </section>
    <template v-for="part in LATER" :key="part.title">
      <section v-if="inPart(part.states).length" :aria-label="part.title">
        <h2 :class="{ late: part.title === 'Overdue' }">{{ part.title }} <span class="soft small">{{ part.hint }}</span></h2>
        <table class="log even">
          <thead><tr><th scope="col">Client</th><th scope="col">Old → new</th><th scope="col">Who uses the old one</th><th scope="col">New one first used</th><th scope="col">{{ part.states.includes("closed") ? "Ended" : "Overlap ends" }}</th><th scope="col"><span class="visually-hidden">Steps</span></th></tr></thead>
          <RotationRow v-for="one in inPart(part.states)" :key="one.id" :one="one" />
        </table>
      </section>
    </template>
    <p v-if="data && !due.length && !data.rotations.length" class="empty">
      Nothing ends within {{ within }} days and no rotation is under way.
      <button v-if="within < 90" type="button" class="link-button" @click="router.replace({ query: { within: 90 } })">Look ninety days ahead</button>
    </p>
  </Loadable>
  </div>
</template>

<style scoped>
section { display: grid; gap: var(--s2); margin-bottom: var(--s5); }
.nowrap { white-space: nowrap; }
/* The same columns in every part, so that the eye can go down. */
.even { table-layout: fixed; }
.even th:nth-child(1) { width: 15%; }
.even th:nth-child(2) { width: 25%; }
.even th:nth-child(4) { width: 12%; }
.even th:nth-child(5) { width: 9%; }
.even th:nth-child(6) { width: 23%; }
.late { color: var(--broken); }
.tabs { margin-top: var(--s2); gap: var(--s2); align-items: center; }
.tabs a { color: var(--ink); text-decoration: none; padding: 3px 10px; border: 1px solid transparent; border-radius: var(--corner); }
.tabs a[aria-current] { border-color: var(--ink); background: var(--card); font-weight: 600; }
.hint-code { display: inline-block; max-width: 230px; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; vertical-align: bottom; }
.empty { border-top: 2px solid var(--line-strong); padding: var(--s4) 0; }
</style>
