<script setup lang="ts">
// From what a client must do to the permissions that unlock it: choose operations, see what each permission opens beyond.
import { NButton, NCheckbox } from "naive-ui";
import { computed, ref, watch } from "vue";
import { type Schemas, api, must } from "@/api/client";
import { directory } from "@/api/session";
import { useResource, useResources, useStale } from "@/api/use";
import Choose from "@/ui/Choose.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import TextField from "@/ui/TextField.vue";

const props = defineProps<{ client: string; held: string[] }>();
const emit = defineEmits<{ done: [] }>();
const { data: resources } = useResources();
const resource = ref<string | null>(null);
const { data: catalogue } = useResource(() => resource.value ?? "");
const needed = ref<string[]>([]);
const chosen = ref<string[]>([]);
const reason = ref("");
const error = ref<unknown>(null);
const busy = ref(false);
const stale = useStale();

watch(resource, () => {
  needed.value = [];
  chosen.value = [];
});
// The permissions that cover the need with the least beyond it come first; what is checked stays the person's choice.
const offers = computed(() =>
  (catalogue.value?.permissions ?? [])
    .filter((one) => one.kinds.includes("application"))
    .map((one) => ({
      ...one,
      covers: one.opens.filter((name) => needed.value.includes(name)).length,
      beyond: one.opens.filter((name) => !needed.value.includes(name)),
      held: props.held.includes(`${catalogue.value?.name}/${one.name}`),
    })),
);
const smallest = computed(() => {
  const names = new Set<string>();
  for (const operation of needed.value) {
    const fitting = catalogue.value?.operations.find((one) => one.name === operation)?.unlocked_by[0];
    if (fitting) names.add(fitting);
  }
  const all = [...names];
  // A permission that another of the set opens entirely adds nothing.
  return all.filter((name) => !all.some((other) => other !== name && opens(other, name)));
});
function opens(outer: string, inner: string): boolean {
  const find = (name: string) => catalogue.value?.permissions.find((one) => one.name === name)?.opens ?? [];
  const wide = find(outer);
  return find(inner).every((name) => wide.includes(name)) && wide.length > find(inner).length;
}
watch(needed, () => (chosen.value = smallest.value.filter((name) => !props.held.includes(`${catalogue.value?.name}/${name}`))), { deep: true });

const toggle = (list: string[], name: string, on: boolean) => (on ? [...list, name] : list.filter((one) => one !== name));
const options = computed(() => (resources.value ?? []).map((one: Schemas["ResourceLine"]) => ({ label: `${one.title}: ${one.identifier}`, value: one.name })));

async function ask(): Promise<void> {
  busy.value = true;
  error.value = null;
  try {
    await must(
      api.POST("/api/v1/directories/{directory}/clients/{client}/asks", {
        params: { path: { directory: directory.value, client: props.client } },
        body: { resource: resource.value ?? "", permissions: chosen.value, kind: "application", reason: reason.value },
      }),
    );
    await stale();
    needed.value = [];
    chosen.value = [];
    reason.value = "";
    emit("done");
  } catch (problem) {
    error.value = problem;
  } finally {
    busy.value = false;
  }
}
</script>

<template>
  <div class="stack">
    <div class="field-like">
      <span class="label">Resource</span>
      <Choose v-model="resource" :options="options" label="Resource" placeholder="Which API does it call?" />
    </div>
    <div v-if="catalogue" class="sides">
      <fieldset>
        <legend>What must it do?</legend>
        <ul>
          <li v-for="one in catalogue.operations" :key="one.name">
            <NCheckbox :checked="needed.includes(one.name)" @update:checked="(on: boolean) => (needed = toggle(needed, one.name, on))">
              {{ one.title }}
            </NCheckbox>
            <span class="soft small"><code>{{ one.method }} {{ one.path }}</code> · {{ one.effect }}, {{ one.data_class }}</span>
          </li>
        </ul>
      </fieldset>
      <fieldset>
        <legend>Permissions to ask</legend>
        <ul>
          <li v-for="one in offers" :key="one.name" :class="{ fits: smallest.includes(one.name) }">
            <NCheckbox :checked="one.held || chosen.includes(one.name)" :disabled="one.held" @update:checked="(on: boolean) => (chosen = toggle(chosen, one.name, on))">
              <code>{{ one.name }}</code> {{ one.title }}
            </NCheckbox>
            <span class="small" :class="one.beyond.length && chosen.includes(one.name) ? 'beyond' : 'soft'">
              <template v-if="one.held">asked already</template>
              <template v-else-if="needed.length && smallest.includes(one.name)">smallest that fits<template v-if="one.beyond.length">; also opens {{ one.beyond.join(", ") }}</template></template>
              <template v-else-if="needed.length && one.covers">opens {{ one.covers }} of {{ needed.length }}, and beyond it {{ one.beyond.join(", ") || "nothing" }}</template>
              <template v-else>opens {{ one.opens.join(", ") }}</template>
            </span>
          </li>
        </ul>
      </fieldset>
    </div>
    <TextField v-if="chosen.length" v-model="reason" label="Reason" hint="for whoever decides, and for the ledger" :longest="500" placeholder="Why it needs this" />
    <ProblemNote v-if="error" :error="error" />
    <div v-if="catalogue" class="row">
      <NButton type="primary" :disabled="!chosen.length || busy" :loading="busy" @click="ask">
        {{ chosen.length ? `Ask for ${chosen.join(", ")}` : "Ask" }}
      </NButton>
      <span class="soft small">{{ chosen.length ? "An ask opens nothing until an approver consents." : "Choose what it must do, or a permission." }}</span>
    </div>
  </div>
</template>

<style scoped>
.field-like { display: grid; gap: var(--s1); max-width: 560px; }
.label { font-weight: 560; }
.sides { display: grid; grid-template-columns: 1fr 1fr; gap: var(--s5); }
fieldset { border: 0; border-top: 1px solid var(--line-strong); padding: var(--s2) 0 0; margin: 0; min-width: 0; }
legend { font-weight: 560; padding: 0 var(--s2) 0 0; }
li { display: grid; padding: 4px 6px; border-left: 3px solid transparent; }
li > span { padding-left: 24px; }
li.fits { border-left-color: var(--accent); background: color-mix(in srgb, var(--accent) 7%, transparent); }
.beyond { color: var(--wait); }
</style>
