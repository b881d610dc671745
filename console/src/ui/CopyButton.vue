<script setup lang="ts">
// Copies a value and says what it copied.
import { ref } from "vue";
import { t } from "@/texts/sentences";

const props = defineProps<{ value: string; what: string; label?: string }>();
const said = ref("");

async function copy(): Promise<void> {
  try {
    await navigator.clipboard.writeText(props.value);
    said.value = t`Copied ${props.what}`;
  } catch {
    said.value = t`The browser did not let us copy: select and copy it yourself`;
  }
  window.setTimeout(() => (said.value = ""), 2500);
}
</script>

<template>
  <span class="copy no-print">
    <button type="button" :aria-label="`${said ? t`copied` : (label ?? t`copy`)} ${what}`" @click="copy">
      {{ said ? t`copied` : (label ?? t`copy`) }}
    </button>
    <span class="visually-hidden" role="status">{{ said }}</span>
  </span>
</template>

<style scoped>
button {
  font: 560 var(--t-small) / 1 var(--sans);
  color: var(--accent);
  background: transparent;
  cursor: pointer;
  border: 1px solid var(--line-strong);
  border-radius: var(--corner);
  padding: 5px 8px;
  min-height: 24px;
}
button:hover {
  border-color: var(--accent);
}
</style>
