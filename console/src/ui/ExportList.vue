<script setup lang="ts" generic="T">
// Saves a list whole, as it is filtered: for a table program, or for a script.
import ProblemNote from "@/ui/ProblemNote.vue";
import { type Columns, type Page, useExport } from "@/ui/use/export";

const props = defineProps<{
  /** Of the file, without day and ending. */
  name: string;
  /** In words: "these findings". */
  what: string;
  read: (cursor: string | undefined) => Promise<Page<T>>;
  columns?: Columns<T>;
}>();
const { run, running, progress, error } = useExport(
  () => props.name,
  (cursor) => props.read(cursor),
  props.columns,
);
</script>

<template>
  <ProblemNote v-if="error" :error="error" />
  <p class="row no-print export">
    <span class="soft">Save {{ what }} as</span>
    <button type="button" class="link-button" :disabled="running" @click="run('csv')">CSV</button>
    <button type="button" class="link-button" :disabled="running" @click="run('jsonl')">JSON Lines</button>
    <span role="status" class="soft">{{ progress }}</span>
  </p>
</template>

<style scoped>
.export {
  margin-top: var(--s3);
}
</style>
