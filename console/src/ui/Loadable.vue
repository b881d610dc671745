<script setup lang="ts">
// Loading keeps the place; failing says so; what was there before stays while it is read again.
import { NSkeleton } from "naive-ui";
import { say } from "@/texts";
import PageHead from "./PageHead.vue";
import ProblemNote from "./ProblemNote.vue";

defineProps<{ loading: boolean; error: unknown; ready: boolean; lines?: number; retry?: () => void; page?: boolean }>();
</script>

<template>
  <PageHead v-if="page && error && !ready" :title="say('shared.cannot_be_shown')" />
  <ProblemNote v-if="error" :error="error" :retry="retry" />
  <slot v-if="ready" />
  <div v-else-if="loading && !error" class="waiting" role="status" :style="{ minHeight: `${(lines ?? 6) * 36}px` }">
    <span class="soft">{{ say("shared.reading") }}</span>
    <NSkeleton v-for="line in (lines ?? 6) - 1" :key="line" aria-hidden="true" :width="`${92 - ((line * 29) % 41)}%`" :height="12" />
  </div>
</template>

<style scoped>
/* What comes at once is not announced by bars that flash. */
.waiting {
  display: flex;
  flex-direction: column;
  justify-content: space-evenly;
  border-top: 2px solid var(--line);
  padding: var(--s3);
  animation: appear 120ms 250ms backwards;
}
@keyframes appear {
  from {
    opacity: 0;
  }
}
</style>
