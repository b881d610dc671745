<script setup lang="ts">
// One finding beside the list: what to do about it, by what evidence, since when, and who sees to it.
import { NButton } from "naive-ui";
import { ref, watch } from "vue";
import { type Schemas, api, must } from "@/api/client";
import { can, directory } from "@/api/session";
import { useStale } from "@/api/reads/directory";
import { useAttempt } from "@/ui/use/attempt";
import Moment from "@/ui/Moment.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import StateWord from "@/ui/StateWord.vue";
import TextField from "@/ui/forms/TextField.vue";
import { severityTone } from "@/ui/use/states";
import { full } from "@/ui/use/times";
import Remedy from "./Remedy.vue";
import { t } from "@/texts/sentences";
import { listed } from "@/texts/listed";

const props = defineProps<{ finding: Schemas["KeptFinding"]; rule?: Schemas["Rule"] }>();
const emit = defineEmits<{ closed: []; changed: [finding: Schemas["KeptFinding"]] }>();
const resolved = ref("");
const doing = ref<"" | "waive" | "assign">("");
const reason = ref("");
const days = ref<number | string>(90);
const person = ref("");
const note = ref("");
const { busy, error, attempt } = useAttempt();
const stale = useStale();
watch(
  () => props.finding.id,
  () => {
    doing.value = "";
    reason.value = "";
    resolved.value = "";
    error.value = null;
  },
);

const at = () => ({ params: { path: { directory: directory.value, finding: props.finding.id } } });
const change = (work: () => Promise<Schemas["KeptFinding"]>) =>
  attempt(async () => {
    emit("changed", await work());
    doing.value = "";
    await stale();
  });
const waive = () =>
  change(() =>
    must(
      api.POST("/api/v1/directories/{directory}/audit/findings/{finding}/waiver", {
        ...at(),
        body: { days: Number(days.value), reason: reason.value },
      }),
    ),
  );
const endWaiver = () => change(() => must(api.POST("/api/v1/directories/{directory}/audit/findings/{finding}/waiver/ending", at())));
const assign = () =>
  change(() =>
    must(
      api.POST("/api/v1/directories/{directory}/audit/findings/{finding}/assignment", {
        ...at(),
        body: { person: person.value.trim(), note: note.value },
      }),
    ),
  );

/** What stands between back quotes is the name of a setting. */
function settingsIn(text = "") {
  return text.split("`").map((part, place) => ({ tag: place % 2 ? "code" : "span", text: part }));
}
</script>

<template>
  <aside class="card beside" aria-label="Finding">
    <StateWord :tone="severityTone[finding.severity] ?? 'gone'" :word="listed(finding.severity)" />
    <h2>{{ finding.title }}</h2>
    <p>
      <RouterLink :to="{ name: 'dossier', params: { id: finding.client_id } }">{{ finding.client_name }}</RouterLink>
    </p>
    <p class="small soft">
      Since <Moment :at="finding.first_seen_at" /><template v-if="finding.returned"
        >, and came back {{ finding.returned === 1 ? t`once` : t`${finding.returned} times` }}</template
      >.
      <template v-if="finding.resolved_at">Resolved <Moment :at="finding.resolved_at" />.</template>
      <template v-if="finding.assigned_to"
        >{{ finding.assigned_to }} sees to it<template v-if="finding.note"> ({{ finding.note }})</template>.</template
      >
    </p>
    <p v-if="finding.answer" class="said">{{ finding.assigned_to }}, <Moment :at="finding.answered_at" />: {{ finding.answer }}</p>
    <p v-if="finding.waived_until" class="waived">
      Waived until {{ full(finding.waived_until) }}, by {{ finding.waived_by }}: {{ finding.waived_reason }}
    </p>
    <template v-if="!finding.resolved_at">
      <h3>What to do</h3>
      <p v-if="resolved" role="status">
        <strong>{{ resolved }}</strong> The audit has looked again.
      </p>
      <Remedy v-else :finding="finding" @done="(words) => (resolved = words)" />
      <p class="row">
        <button
          v-if="can('findings.assign')"
          type="button"
          class="link-button"
          :aria-expanded="doing === 'assign'"
          @click="doing = doing === 'assign' ? '' : 'assign'"
        >
          Give it to somebody
        </button>
        <button v-if="can('findings.end-waiver') && finding.waived_until" type="button" class="link-button" @click="endWaiver">
          Count it again
        </button>
        <button
          v-else-if="can('findings.waive')"
          type="button"
          class="link-button"
          :aria-expanded="doing === 'waive'"
          @click="doing = doing === 'waive' ? '' : 'waive'"
        >
          Waive it for a while
        </button>
      </p>
      <form v-if="doing === 'waive'" class="stack" @submit.prevent="waive">
        <TextField v-model="reason" label="Why is it waived?" :longest="500" />
        <label class="field"
          >For how many days <span class="hint">then it comes back</span
          ><input v-model="days" class="plain-input days" type="number" min="1" max="366" step="1"
        /></label>
        <div>
          <NButton type="primary" attr-type="submit" :loading="busy" :disabled="busy || !reason.trim()">Waive it</NButton>
        </div>
      </form>
      <form v-if="doing === 'assign'" class="stack" @submit.prevent="assign">
        <TextField v-model="person" label="Login" hint="of who sees to it; empty: nobody" :longest="200" />
        <TextField v-model="note" label="A word for them" :longest="500" />
        <div><NButton type="primary" attr-type="submit" :loading="busy" :disabled="busy">Give it</NButton></div>
      </form>
      <ProblemNote v-if="error" :error="error" />
    </template>
    <h3>Evidence</h3>
    <dl class="facts">
      <template v-for="(value, name) in finding.evidence" :key="name"
        ><dt>{{ name }}</dt>
        <dd>{{ /^\d{4}-\d\d-\d\dT/.test(value) ? full(value) : value }}</dd></template
      >
    </dl>
    <h3>Why it matters</h3>
    <p>{{ rule?.why }}</p>
    <h3>When it is found</h3>
    <p>
      <component :is="part.tag" v-for="(part, place) in settingsIn(rule?.when)" :key="place">{{ part.text }}</component>
    </p>
    <p class="soft small">
      <component :is="part.tag" v-for="(part, place) in settingsIn(rule?.how_bad)" :key="place">{{ part.text }}</component>
      {{ rule?.reference }}
    </p>
    <button type="button" class="link-button" @click="emit('closed')">Close</button>
  </aside>
</template>

<style scoped>
.beside {
  position: sticky;
  top: var(--s4);
  display: grid;
  gap: var(--s2);
  max-height: calc(100vh - 2 * var(--s4));
  overflow-y: auto;
}
.beside h3 {
  margin-top: var(--s2);
  color: var(--ink-soft);
  font-size: var(--t-small);
}
.said {
  border-left: 3px solid var(--live);
  padding-left: var(--s2);
}
.waived {
  border-left: 3px solid var(--wait);
  padding-left: var(--s2);
}
.days {
  width: 110px;
}
dd {
  overflow-wrap: anywhere;
}
</style>
