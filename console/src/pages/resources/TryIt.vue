<script setup lang="ts">
// A live try of what a client asked for, where nobody chose an operation yet: the first that it asks is proposed.
import { computed, ref, watchEffect } from "vue";
import { type Schemas } from "@/api/client";
import { type Question } from "@/api/reads/resources";
import Choose from "@/ui/forms/Choose.vue";
import Probe from "./Probe.vue";

const props = defineProps<{ client: string; resources: Schemas["ResourceLadder"][] }>();
const chosen = ref<string | null>(null);
/** What the permissions that it asks as itself open, by resource. */
const opened = computed(() =>
  props.resources.flatMap((place) => {
    const names = new Set(place.rungs.filter((rung) => rung.asked_at && rung.kind === "application").flatMap((rung) => rung.opens));
    return place.operations
      .filter((one) => names.has(one.name))
      .map((one) => ({ label: `${one.title} (${place.resource} ${one.name})`, value: `${place.resource}/${one.name}` }));
  }),
);
watchEffect(() => {
  if (!opened.value.some((one) => one.value === chosen.value)) chosen.value = opened.value[0]?.value ?? null;
});
const question = computed<Question | null>(() => {
  const [resource, operation] = (chosen.value ?? "").split("/");
  return resource && operation ? { resource, operation, kind: "application", person: null, object: null, token: null } : null;
});
</script>

<template>
  <section v-if="question" class="stack try" aria-labelledby="try-it">
    <h3 id="try-it">Try it</h3>
    <Choose v-model="chosen" :options="opened" label="Operation to try" placeholder="Operation" />
    <Probe :client="client" :question="question" />
  </section>
</template>

<style scoped>
.try {
  margin-top: var(--s4);
}
</style>
