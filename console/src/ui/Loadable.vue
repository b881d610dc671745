<script setup lang="ts">
// Loading keeps the place; failing says so; what was there before stays while it is read again.
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
  </div>
</template>

<style scoped>
.waiting {
  border-top: 2px solid var(--line);
  padding: var(--s3);
}
</style>
