<script setup lang="ts">
// One choice from a short list: the browser's own, which every keyboard and screen reader knows.
import { t } from "@/texts/sentences";

defineProps<{ options: { label: string; value: string }[]; label: string; placeholder?: string; disabled?: boolean }>();
const value = defineModel<string | null>({ required: true });
</script>

<template>
  <select
    class="plain-input"
    :aria-label="label"
    :disabled="disabled"
    :value="value ?? ''"
    @change="value = ($event.target as HTMLSelectElement).value || null"
  >
    <option value="">{{ placeholder ?? t`Choose` }}</option>
    <option v-for="one in options" :key="one.value" :value="one.value">{{ one.label }}</option>
  </select>
</template>

<style scoped>
select {
  width: 100%;
}
</style>
