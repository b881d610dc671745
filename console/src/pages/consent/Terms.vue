<script setup lang="ts">
// The bounds of a consent: where it counts, by resource, and until when. The mail rewrites itself.
import type { Schemas } from "@/api/client";
import type { ConsentTerms, ReachChoice } from "@/api/reads/consent";
import ReachEditor from "@/ui/forms/ReachEditor.vue";
import { t } from "@/texts/sentences";

const props = defineProps<{ places: Schemas["ConsentAtResource"][] }>();
const terms = defineModel<ConsentTerms>({ required: true });
const wished = (name: string): ReachChoice => {
  const here = props.places.find((one) => one.resource === name)?.asks ?? [];
  const first = here[0]?.reach;
  return first && here.every((ask) => ask.reach.words === first.words)
    ? { kind: first.kind, collections: first.collections }
    : { kind: "everywhere", collections: [] };
};
const reach = (name: string) => terms.value.reach[name] ?? wished(name);
const change = (name: string, value: ReachChoice) => (terms.value = { ...terms.value, reach: { ...terms.value.reach, [name]: value } });
const day = () => (terms.value.expires_at ?? "").slice(0, 10);
const names = () => [...new Set(props.places.filter((one) => one.object_name).map((one) => one.resource))];
const title = (name: string) => props.places.find((one) => one.resource === name)?.title ?? name;
const tomorrow = new Date(Date.now() + 86_400_000).toISOString().slice(0, 10);
</script>

<template>
  <div class="stack">
    <ReachEditor
      v-for="name in names()"
      :key="name"
      :resource="name"
      :label="t`Where it counts at ${title(name)}`"
      :model-value="reach(name)"
      @update:model-value="(value: ReachChoice) => change(name, value)"
    />
    <label class="row until"
      >Until
      <input
        type="date"
        class="plain-input"
        :min="tomorrow"
        :value="day()"
        @change="
          terms = {
            ...terms,
            expires_at: ($event.target as HTMLInputElement).value ? `${($event.target as HTMLInputElement).value}T23:59:59Z` : null,
          }
        "
      />{{ " " }} <span class="soft small">{{ terms.expires_at ? t`the end of that day, UTC` : t`no expiry` }}</span></label
    >
  </div>
</template>

<style scoped>
.until {
  font-weight: 560;
}
</style>
