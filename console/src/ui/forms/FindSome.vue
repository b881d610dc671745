<script setup lang="ts">
// Look for some of a long list; what is not shown is counted, and how to come to it is said.
import { figure } from "@/ui/use/words";
import { t } from "@/texts/sentences";

defineProps<{ label: string; shown: number; found: number; all: number }>();
const wanted = defineModel<string>({ required: true });
</script>

<template>
  <div v-if="all > shown || wanted" class="row find">
    <!-- Within a form, too, Enter only looks: it sends nothing. -->
    <input
      v-model="wanted"
      class="plain-input"
      type="search"
      :aria-label="label"
      :placeholder="label"
      maxlength="100"
      @keydown.enter.prevent
    />
    <span role="status" class="soft small">
      <template v-if="!found">Nothing matches.</template>
      <template v-else-if="found > shown">{{
        wanted
          ? t`The first ${figure(shown)} of ${figure(found)} that match: type more to find the others.`
          : t`The first ${figure(shown)} of ${figure(found)}: type more to find the others.`
      }}</template>
      <template v-else>{{ figure(found) }} of {{ figure(all) }}</template>
    </span>
  </div>
</template>

<style scoped>
.find {
  margin: var(--s2) 0;
}
input {
  width: min(280px, 100%);
}
</style>
