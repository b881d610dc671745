<script setup lang="ts">
// Credentials as bars on one time axis with today's line, so that overlaps and gaps are seen; then the facts of each.
import { NButton } from "naive-ui";
import { computed, ref } from "vue";
import { type Schemas, api, must } from "@/api/client";
import { can, directory } from "@/api/session";
import { useStale } from "@/api/use";
import Moment from "@/ui/Moment.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import StateWord from "@/ui/StateWord.vue";
import { secretTone, secretWord } from "@/ui/states";
import { ago, day, now } from "@/ui/times";

type Credential = Schemas["Credential"];
const props = defineProps<{ client: string; credentials: Credential[] }>();
const sure = ref("");
const error = ref<unknown>(null);
const stale = useStale();

const WIDTH = 140;
const span = computed(() => {
  const from = Math.min(now.value, ...props.credentials.map((one) => Date.parse(one.issued_at)));
  const ends = props.credentials.map((one) => (one.expires_at ? Date.parse(one.expires_at) : now.value));
  const to = Math.max(now.value, ...ends);
  return { from: Math.max(from, to - 2 * 365 * 86_400_000), to: to + (to - from) * 0.05 };
});
const at = (moment: number) => Math.max(0, (WIDTH * (moment - span.value.from)) / (span.value.to - span.value.from || 1));
const bar = (one: Credential) => {
  const start = at(Date.parse(one.issued_at));
  const end = one.withdrawn_at ?? one.expires_at;
  return { x: start, width: Math.max(3, (end ? at(Date.parse(end)) : WIDTH) - start) };
};
const stands = (one: Credential) => one.state !== "withdrawn";
const inUse = (one: Credential) => one.last_used_at !== null && now.value - Date.parse(one.last_used_at) < 7 * 86_400_000;

async function withdraw(one: Credential): Promise<void> {
  error.value = null;
  try {
    await must(
      api.POST("/api/v1/directories/{directory}/clients/{client}/credentials/{credential}/withdrawal", {
        params: { path: { directory: directory.value, client: props.client, credential: one.id } },
        body: { reason: "" },
      }),
    );
    sure.value = "";
    await stale();
  } catch (problem) {
    error.value = problem;
  }
}
</script>

<template>
  <p v-if="!credentials.length" class="empty">It has no secret, so it cannot fetch a token.</p>
  <table v-else class="log">
    <thead>
      <tr><th scope="col">Secret</th><th scope="col">State</th><th scope="col">Life <span class="soft">(line: today)</span></th><th scope="col">Ends</th><th scope="col">Issued</th><th scope="col">Last used</th><th scope="col"><span class="visually-hidden">Withdraw</span></th></tr>
    </thead>
    <tbody v-for="one in credentials" :key="one.id">
      <tr>
        <td><code>{{ one.hint }}</code></td>
        <td><StateWord :tone="secretTone[one.state] ?? 'gone'" :word="secretWord[one.state] ?? one.state" /></td>
        <td>
          <svg :width="WIDTH" height="18" role="img" :aria-label="`from ${day(one.issued_at)} to ${one.expires_at ? day(one.expires_at) : 'no end'}`">
            <rect :class="one.state" :x="bar(one).x" y="5" :width="bar(one).width" height="8" rx="1" />
            <path v-if="!one.expires_at && stands(one)" class="endless" :d="`M${WIDTH - 9} 2 l7 7 l-7 7`" />
            <line :x1="at(now)" :x2="at(now)" y1="0" y2="18" />
          </svg>
        </td>
        <td class="nowrap"><Moment :at="one.withdrawn_at ?? one.expires_at" missing="no end" /></td>
        <td class="nowrap"><Moment :at="one.issued_at" /> <div class="soft small">by {{ one.issued_by }}</div></td>
        <td class="nowrap"><Moment :at="one.last_used_at" /></td>
        <td class="right"><button v-if="stands(one) && can('credentials.withdraw')" type="button" class="link-button" @click="sure = one.id">Withdraw</button></td>
      </tr>
      <tr v-if="sure === one.id">
        <td colspan="7" class="sure">
          <p>
            Withdraw <code>{{ one.hint }}</code>? It ends at once and for good.
            <strong v-if="inUse(one)">It was used {{ ago(one.last_used_at ?? "", now) }}: whatever uses it stops.</strong>
          </p>
          <div class="row"><NButton size="small" @click="sure = ''">Keep it</NButton><NButton size="small" type="error" ghost @click="withdraw(one)">Withdraw it</NButton></div>
          <ProblemNote v-if="error" :error="error" />
        </td>
      </tr>
    </tbody>
  </table>
</template>

<style scoped>
rect { fill: var(--bar-granted); }
rect.expiring { fill: var(--wait); }
rect.expired { fill: var(--broken); opacity: 0.65; }
rect.withdrawn { fill: var(--line-strong); opacity: 0.6; }
line { stroke: var(--focus); stroke-width: 2; }
.endless { fill: none; stroke: var(--bar-granted); stroke-width: 2; }
.nowrap { white-space: nowrap; }
.right { text-align: right; }
.sure { background: var(--broken-bg); }
.sure .row { margin-top: var(--s2); }
.empty { border-top: 2px solid var(--line-strong); padding: var(--s4) 0; }
</style>
