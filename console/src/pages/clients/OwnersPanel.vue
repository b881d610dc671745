<script setup lang="ts">
// Who answers for a client: people in and out, saved in one step.
import { NButton } from "naive-ui";
import { computed, ref, watchEffect } from "vue";
import { type Schemas, api, must } from "@/api/client";
import { directory } from "@/api/session";
import { offer } from "@/api/undo";
import { useStale } from "@/api/reads/directory";
import PickPeople from "@/ui/forms/PickPeople.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import { t } from "@/texts/sentences";

const props = defineProps<{ client: string; owners: Schemas["Owner"][] }>();
const emit = defineEmits<{ done: [] }>();
const chosen = ref<string[]>([]);
const level = ref<"full" | "edit" | "read">("full");
const LEVELS = [
  { value: "full", label: t`in full` },
  { value: "edit", label: t`to ask only: no owners, no secrets` },
  { value: "read", label: t`to see it only` },
] as const;
const error = ref<unknown>(null);
const stale = useStale();
const before = computed(() => props.owners.map((owner) => owner.id));
const names = computed(() => Object.fromEntries(props.owners.map((owner) => [owner.id, owner.name])));
watchEffect(() => (chosen.value = [...before.value]));
const changed = computed(() => chosen.value.join() !== before.value.join());

async function save(): Promise<void> {
  error.value = null;
  try {
    const add = chosen.value.filter((one) => !before.value.includes(one));
    const left = props.owners.filter((owner) => !chosen.value.includes(owner.id));
    const { name } = await must(
      api.POST("/api/v1/directories/{directory}/clients/{client}/owners", {
        params: { path: { directory: directory.value, client: props.client } },
        body: { add, remove: left.map((owner) => owner.id), level: level.value },
      }),
    );
    const levels = new Set(left.map((owner) => owner.level));
    // One request gives one level: those who owned it at several do not come back by one.
    if (levels.size <= 1)
      offer({
        said: t`You changed the owners of ${name}.`,
        path: `/api/v1/directories/${directory.value}/clients/${props.client}/owners`,
        body: { add: left.map((owner) => owner.id), remove: add, level: left[0]?.level ?? "full" },
      });
    await stale();
    emit("done");
  } catch (problem) {
    error.value = problem;
  }
}
</script>

<template>
  <form class="stack" @submit.prevent="save">
    <PickPeople v-model="chosen" :names="names" label="Owners" hint="who answers for it" />
    <label v-if="chosen.some((one) => !before.includes(one))" class="row">
      Those added own it
      <select v-model="level" class="plain-input">
        <option v-for="one in LEVELS" :key="one.value" :value="one.value">{{ one.label }}</option>
      </select>
    </label>
    <ProblemNote v-if="error" :error="error" />
    <div class="row">
      <NButton type="primary" attr-type="submit" :disabled="!changed">Save owners</NButton>
      <span v-if="!chosen.length" class="soft small">Without an owner the audit lists it.</span>
    </div>
  </form>
</template>
