<script setup lang="ts">
// A live try of what a client asked for, where nobody chose an operation yet: the first that it asks is proposed.
import { computed, ref, watchEffect } from "vue";
import { type Schemas } from "@/api/client";
import { type Question } from "@/api/reads/resources";
import Choose from "@/ui/forms/Choose.vue";
import Probe from "./Probe.vue";
import { t } from "@/texts/sentences";

const props = defineProps<{ client: string; resources: Schemas["ResourceLadder"][] }>();
const chosen = ref<string | null>(null);
const object = ref("");
/** What the permissions that it asks as itself open, by resource. */
const opened = computed(() =>
  props.resources.flatMap((place) => {
    const names = new Set(place.rungs.filter((rung) => rung.asked_at && rung.kind === "application").flatMap((rung) => rung.opens));
    return place.operations
      .filter((one) => names.has(one.name))
      .map((one) => ({
        label: `${one.title} (${place.resource} ${one.name})`,
        value: `${place.resource}/${one.name}`,
        needs: one.concerns_object ? place.object_name : "",
      }));
  }),
);
const needs = computed(() => opened.value.find((one) => one.value === chosen.value)?.needs ?? "");
watchEffect(() => {
  const first = opened.value.find((one) => !one.needs) ?? opened.value[0];
  if (!opened.value.some((one) => one.value === chosen.value)) chosen.value = first?.value ?? null;
});
const question = computed<Question | null>(() => {
  const [resource, operation] = (chosen.value ?? "").split("/");
  if (!resource || !operation) return null;
  return { resource, operation, kind: "application", person: null, object: needs.value ? object.value.trim() : null, token: null };
});
</script>

<template>
  <section v-if="question" class="stack try" aria-labelledby="try-it">
    <h3 id="try-it">Try it</h3>
    <div class="row">
      <Choose v-model="chosen" :options="opened" label="Operation to try" placeholder="Operation" />
      <input
        v-if="needs"
        v-model.lazy="object"
        class="plain-input"
        type="search"
        :aria-label="t`To this ${needs}`"
        :placeholder="t`to which ${needs}?`"
      />
    </div>
    <Probe v-if="!needs || question.object" :client="client" :question="question" />
    <p v-else class="soft small">Name one {{ needs }} to try it.</p>
  </section>
</template>

<style scoped>
.try {
  margin-top: var(--s4);
}
.try .row > * {
  max-width: 420px;
}
</style>
