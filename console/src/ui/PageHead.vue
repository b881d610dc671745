<script setup lang="ts">
// What this page is, how many, and its one main action on the right.
defineProps<{ title: string; count?: string; lead?: string; announced?: boolean }>();
</script>

<template>
  <header class="head">
    <div>
      <h1 tabindex="-1">
        {{ title }} <span v-if="count" class="count">{{ count }}</span>
      </h1>
      <!-- Said when it changes: how many a filter found. -->
      <p v-if="announced" class="visually-hidden" role="status">{{ count }}</p>
      <p v-if="lead" class="soft">{{ lead }}</p>
      <slot name="below" />
    </div>
    <div class="actions no-print"><slot /></div>
  </header>
</template>

<style scoped>
.head {
  display: flex;
  justify-content: space-between;
  align-items: flex-start;
  gap: var(--s5);
  margin-bottom: var(--s4);
}
h1 {
  font-size: var(--t-h1);
  font-weight: 660;
  letter-spacing: -0.015em;
  line-height: 1.2;
  outline-offset: 4px;
}
.count {
  font-weight: 400;
  color: var(--ink-soft);
  font-size: var(--t-lead);
  letter-spacing: 0;
  margin-left: var(--s2);
}
.actions {
  display: flex;
  gap: var(--s2);
  flex-shrink: 0;
}
@media (max-width: 860px) {
  .head {
    flex-wrap: wrap;
    gap: var(--s3);
  }
  .actions {
    flex-wrap: wrap;
    flex-shrink: 1;
    min-width: 0;
  }
}
</style>
