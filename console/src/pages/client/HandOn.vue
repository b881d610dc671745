<script setup lang="ts">
// Quick or careful: the client takes over what its maker may do, or less, by resource and collections. Never more.
import { NButton } from "naive-ui";
import { computed, ref, watch } from "vue";
import { type Schemas, api, must } from "@/api/client";
import { directory } from "@/api/session";
import { type ReachChoice, useStale } from "@/api/use";
import ProblemNote from "@/ui/ProblemNote.vue";
import ReachEditor from "@/ui/ReachEditor.vue";
import { count } from "@/ui/words";

type Level = "nothing" | "read" | "read-and-write" | "all";
const props = defineProps<{ client: string }>();
const emit = defineEmits<{ done: [] }>();
const levels = ref<Record<string, Level>>({});
const reaches = ref<Record<string, ReachChoice>>({});
const seen = ref<Schemas["Takeover"] | null>(null);
const error = ref<unknown>(null);
const stale = useStale();
const WORDS: [Level, string][] = [["nothing", "nothing"], ["read", "read"], ["read-and-write", "read and write"], ["all", "all of it"]];
const EVERYWHERE: ReachChoice = { kind: "everywhere", collections: [] };
const params = () => ({ path: { directory: directory.value, client: props.client } });
const choices = computed(() =>
  Object.keys(levels.value).length
    ? Object.fromEntries(Object.entries(levels.value).map(([name, level]) => [name, { level, reach: reaches.value[name] ?? EVERYWHERE }]))
    : null,
);
const fit = computed(() => Object.values(reaches.value).every((one) => one.kind === "everywhere" || one.collections.length > 0));
const total = computed(() => (seen.value?.lines ?? []).reduce((sum, line) => sum + line.permissions.length, 0));

async function look(): Promise<void> {
  if (!fit.value) return;
  error.value = null;
  try {
    seen.value = await must(api.POST("/api/v1/directories/{directory}/clients/{client}/takeover/preview", { params: params(), body: { choices: choices.value, reason: "" } }));
    if (!choices.value) levels.value = Object.fromEntries(seen.value.lines.map((line) => [line.resource, "all" as Level]));
  } catch (problem) {
    error.value = problem;
  }
}
watch([levels, reaches], look, { deep: true, immediate: true });
async function ask(): Promise<void> {
  error.value = null;
  try {
    await must(api.POST("/api/v1/directories/{directory}/clients/{client}/takeover", { params: params(), body: { choices: choices.value, reason: "" } }));
    await stale();
    emit("done");
  } catch (problem) {
    error.value = problem;
  }
}
</script>

<template>
  <div class="stack">
    <p v-if="seen && !seen.lines.length" class="soft">You hold no role at any resource: there is nothing to hand on.</p>
    <table v-else-if="seen" class="log">
      <thead><tr><th scope="col">Resource</th><th scope="col">Your roles</th><th scope="col">It may</th><th scope="col">Which asks for</th><th scope="col" class="num">Weight</th></tr></thead>
      <tbody v-for="line in seen.lines" :key="line.resource">
        <tr>
          <td>{{ line.title }}</td>
          <td class="free small">{{ line.roles.join("; ") }}</td>
          <td><select v-model="levels[line.resource]" class="plain-input" :aria-label="`What it may do at ${line.title}`"><option v-for="[value, word] in WORDS" :key="value" :value="value">{{ word }}</option></select></td>
          <td class="free"><div v-for="one in line.permissions" :key="`${one.permission}/${one.reach.words}`"><code>{{ one.permission }}</code><span v-if="one.reach.kind !== 'everywhere'" class="soft small"> {{ one.reach.words }}</span></div><span v-if="!line.permissions.length" class="soft">nothing</span></td>
          <td class="num">{{ line.weight }}</td>
        </tr>
        <tr v-if="(levels[line.resource] ?? 'all') !== 'nothing'"><td colspan="5" class="bounds"><ReachEditor :resource="line.resource" :label="`Where, at ${line.title}`" :model-value="reaches[line.resource] ?? EVERYWHERE" @update:model-value="(value: ReachChoice) => (reaches = { ...reaches, [line.resource]: value })" /></td></tr>
      </tbody>
    </table>
    <ProblemNote v-if="error" :error="error" />
    <div v-if="seen?.lines.length" class="row">
      <NButton type="primary" :disabled="!total || !fit" @click="ask">Ask for {{ count(total, "permission") }}</NButton>
      <span class="soft small">Never more than you may do yourself. An approver consents, unless the policy lets makers hand on.</span>
    </div>
  </div>
</template>

<style scoped>
.bounds { padding-top: 0; }
</style>
