<script setup lang="ts">
// Quick or careful: the client takes over what its maker may do, or less, by resource and collections. Never more.
import { NButton } from "naive-ui";
import { computed, ref } from "vue";
import { api, must } from "@/api/client";
import { directory } from "@/api/session";
import { type Choices, type Level, type ReachChoice, useInheritance } from "@/api/reads/consent";
import { useStale } from "@/api/reads/directory";
import ProblemNote from "@/ui/ProblemNote.vue";
import ReachEditor from "@/ui/forms/ReachEditor.vue";
import { count } from "@/ui/use/words";
import { t } from "@/texts/sentences";

const props = defineProps<{ client: string }>();
const emit = defineEmits<{ done: [] }>();
// What was changed; where nothing was, all of it is taken over.
const changed = ref<Choices>({});
const WORDS: [Level, string][] = [
  ["nothing", "nothing"],
  ["read", "read"],
  ["read-and-write", t`read and write`],
  ["all", t`all of it`],
];
const choice = (resource: string) =>
  changed.value[resource] ?? { level: "all" as Level, reach: { kind: "everywhere", collections: [] } as ReachChoice };
const change = (resource: string, what: Partial<Choices[string]>) =>
  (changed.value = { ...changed.value, [resource]: { ...choice(resource), ...what } });
const fit = computed(() =>
  Object.values(changed.value).every((one) => one.reach.kind === "everywhere" || one.reach.collections.length > 0),
);
// Every resource is named once anything was changed: the service takes what is not named for nothing.
const choices = computed(() =>
  Object.keys(changed.value).length
    ? Object.fromEntries((seen.value?.lines ?? []).map((line) => [line.resource, choice(line.resource)]))
    : null,
);
const { data: seen, error: unseen, isPlaceholderData: older } = useInheritance(() => props.client, choices, fit);
const failed = ref<unknown>(null);
const stale = useStale();
const total = computed(() => (seen.value?.lines ?? []).reduce((sum, line) => sum + line.permissions.length, 0));

async function ask(): Promise<void> {
  failed.value = null;
  try {
    await must(
      api.POST("/api/v1/directories/{directory}/clients/{client}/inheritance", {
        params: { path: { directory: directory.value, client: props.client } },
        body: { choices: choices.value, reason: "" },
      }),
    );
    await stale();
    emit("done");
  } catch (problem) {
    failed.value = problem;
  }
}
</script>

<template>
  <div class="stack">
    <p v-if="seen && !seen.lines.length" class="soft">You hold no role at any resource: there is nothing to inherit.</p>
    <table v-else-if="seen" class="log">
      <thead>
        <tr>
          <th scope="col">Resource</th>
          <th scope="col">Your roles</th>
          <th scope="col">It may</th>
          <th scope="col">Which asks for</th>
          <th scope="col" class="num">Weight</th>
        </tr>
      </thead>
      <tbody v-for="line in seen.lines" :key="line.resource">
        <tr>
          <td>{{ line.title }}</td>
          <td class="free small">{{ line.roles.join("; ") }}</td>
          <td>
            <select
              class="plain-input"
              :value="choice(line.resource).level"
              :aria-label="t`What it may do at ${line.title}`"
              @change="change(line.resource, { level: ($event.target as HTMLSelectElement).value as Level })"
            >
              <option v-for="[value, word] in WORDS" :key="value" :value="value">{{ word }}</option>
            </select>
          </td>
          <td class="free">
            <div v-for="one in line.permissions" :key="`${one.permission}/${one.reach.words}`">
              <code>{{ one.permission }}</code><span v-if="one.reach.kind !== 'everywhere'" class="soft small"> {{ one.reach.words }}</span>
            </div>
            <span v-if="!line.permissions.length" class="soft">nothing</span>
          </td>
          <td class="num">{{ line.weight }}</td>
        </tr>
        <tr v-if="choice(line.resource).level !== 'nothing'">
          <td colspan="5" class="bounds">
            <ReachEditor
              :resource="line.resource"
              :label="t`Where, at ${line.title}`"
              :model-value="choice(line.resource).reach"
              @update:model-value="(reach: ReachChoice) => change(line.resource, { reach })"
            />
          </td>
        </tr>
      </tbody>
    </table>
    <ProblemNote v-if="failed ?? unseen" :error="failed ?? unseen" />
    <div v-if="seen?.lines.length" class="row">
      <NButton type="primary" :disabled="!total || !fit || older" @click="ask">Ask for {{ count(total, "permission") }}</NButton>
      <span class="soft small">Never more than you may do yourself. An approver consents, unless the policy lets clients inherit.</span>
    </div>
  </div>
</template>

<style scoped>
.bounds {
  padding-top: 0;
}
</style>
