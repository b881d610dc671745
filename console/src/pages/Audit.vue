<script setup lang="ts">
// Findings, worst first, grouped by rule or client; one opens beside the list with its evidence and its mend.
import { computed } from "vue";
import { useRoute, useRouter } from "vue-router";
import type { Schemas } from "@/api/client";
import { useAudit } from "@/api/use";
import Loadable from "@/ui/Loadable.vue";
import PageHead from "@/ui/PageHead.vue";
import StateWord from "@/ui/StateWord.vue";
import { useRows } from "@/ui/rows";
import { severityTone } from "@/ui/states";
import { full } from "@/ui/times";

type Finding = Schemas["Finding"];
const route = useRoute();
const router = useRouter();
const { data, error, isLoading, refetch } = useAudit();
const severity = computed(() => String(route.query.severity ?? ""));
const by = computed(() => (route.query.by === "client" ? "client" : "rule"));
const key = (one: Finding) => `${one.rule}~${one.client_id}~${one.subject}`;
const open = computed(() => data.value?.findings.find((one) => key(one) === route.query.open));
const rule = computed(() => data.value?.rules.find((one) => one.id === open.value?.rule));
const SEVERITIES = ["high", "medium", "low"];
const count = (word: string) => data.value?.findings.filter((one) => one.severity === word).length ?? 0;

const groups = computed(() => {
  const made = new Map<string, { title: string; findings: Finding[] }>();
  for (const one of data.value?.findings ?? []) {
    if (severity.value && one.severity !== severity.value) continue;
    const name = by.value === "rule" ? one.rule : one.client_id;
    const title = by.value === "rule" ? (data.value?.rules.find((rule) => rule.id === one.rule)?.title ?? one.rule) : one.client_name;
    if (!made.has(name)) made.set(name, { title, findings: [] });
    made.get(name)?.findings.push(one);
  }
  return [...made.values()];
});
const flat = computed(() => groups.value.flatMap((group) => group.findings));
const change = (part: Record<string, string | undefined>) => void router.replace({ query: { ...route.query, ...part } });
const { chosen } = useRows(() => flat.value.length, (place) => change({ open: flat.value[place] && key(flat.value[place]) }));
</script>

<template>
  <PageHead title="Audit" :count="data ? `${data.findings.length} findings` : ''" :lead="data ? `${data.clients} clients, ${data.rules.length} rules, evaluated ${full(data.at)}` : ' '" />
  <Loadable :loading="isLoading" :error="error" :ready="!!data" :lines="12" :retry="refetch">
    <template v-if="data">
      <div class="row posture" role="group" aria-label="Severity">
        <button type="button" class="pick" :aria-pressed="severity === ''" @click="change({ severity: undefined })">all {{ data.findings.length }}</button>
        <button v-for="word in SEVERITIES" :key="word" type="button" class="pick" :aria-pressed="severity === word" @click="change({ severity: word })">
          <StateWord :tone="severityTone[word] ?? 'gone'" :word="`${count(word)} ${word}`" />
        </button>
        <span class="by" role="group" aria-label="Group by">
          by
          <button type="button" class="pick" :aria-pressed="by === 'rule'" @click="change({ by: undefined })">rule</button>
          <button type="button" class="pick" :aria-pressed="by === 'client'" @click="change({ by: 'client' })">client</button>
        </span>
      </div>
      <p v-if="!flat.length" class="empty">{{ data.findings.length ? "No finding of this severity." : "The audit finds nothing wrong." }}</p>
      <div class="sides" :class="{ two: open }">
        <div>
          <section v-for="group in groups" :key="group.title">
            <h2>{{ group.title }} <span class="soft small">{{ group.findings.length }}</span></h2>
            <table class="log">
              <caption class="visually-hidden">{{ group.title }}</caption>
              <thead class="visually-hidden"><tr><th scope="col">Severity</th><th scope="col">Client</th><th scope="col">What is wrong</th></tr></thead>
              <tbody>
                <tr v-for="one in group.findings" :key="key(one)" :class="{ chosen: one === open || flat.indexOf(one) === chosen }">
                  <td class="severity"><StateWord :tone="severityTone[one.severity] ?? 'gone'" :word="one.severity" /></td>
                  <td class="client free">{{ one.client_name }}</td>
                  <td class="free"><button :id="`row-${flat.indexOf(one)}`" type="button" class="link-button" :aria-expanded="one === open" @click="change({ open: one === open ? undefined : key(one) })">{{ one.title }}</button></td>
                </tr>
              </tbody>
            </table>
          </section>
        </div>
        <aside v-if="open" class="card beside" aria-label="Finding">
          <StateWord :tone="severityTone[open.severity] ?? 'gone'" :word="open.severity" />
          <h2>{{ open.title }}</h2>
          <p><RouterLink :to="{ name: 'dossier', params: { id: open.client_id } }">{{ open.client_name }}</RouterLink></p>
          <h3>What to do</h3>
          <p>{{ open.mend }}</p>
          <h3>Evidence</h3>
          <dl class="facts"><template v-for="(value, name) in open.evidence" :key="name"><dt>{{ name }}</dt><dd>{{ /^\d{4}-\d\d-\d\dT/.test(value) ? full(value) : value }}</dd></template></dl>
          <h3>Why it matters</h3>
          <p>{{ rule?.why }} <span class="soft small">{{ rule?.reference }}</span></p>
          <button type="button" class="link-button" @click="change({ open: undefined })">Close</button>
        </aside>
      </div>
    </template>
  </Loadable>
</template>

<style scoped>
.posture { border-top: 2px solid var(--ink); border-bottom: 1px solid var(--line-strong); padding: var(--s3) 0; gap: var(--s2); margin-bottom: var(--s4); }
.by { margin-left: auto; display: flex; gap: var(--s2); align-items: center; }
.pick { font: inherit; font-size: 13px; color: var(--ink); background: transparent; border: 1px solid transparent; border-radius: var(--corner); padding: 4px 10px; cursor: pointer; }
.pick[aria-pressed="true"] { border-color: var(--ink); background: var(--card); }
.sides.two { display: grid; grid-template-columns: minmax(0, 1fr) 380px; gap: var(--s5); align-items: start; }
section { margin-bottom: var(--s4); }
section h2 { margin-bottom: var(--s1); }
section table.log { border-top-width: 1px; }
/* A button of two lines has its baseline at the last: align at the top instead. */
section table.log td { vertical-align: top; }
.severity { width: 96px; }
.client { width: 220px; font-weight: 560; }
.two .client { width: 170px; }
.beside { position: sticky; top: var(--s4); display: grid; gap: var(--s2); }
.beside h3 { margin-top: var(--s2); color: var(--ink-soft); font-size: var(--t-small); }
.empty { padding: var(--s4) 0; }
</style>
