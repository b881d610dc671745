<script setup lang="ts">
// A dialog over the page: the rest waits, Esc puts it away, and the browser gives the focus back to where it was.
import { onMounted, ref, useId } from "vue";

defineProps<{ title: string }>();
const emit = defineEmits<{ away: [] }>();
const id = useId();
const dialog = ref<HTMLDialogElement | null>(null);
onMounted(() => dialog.value?.showModal());
defineExpose({ close: () => dialog.value?.close() });
</script>

<template>
  <dialog ref="dialog" class="over card" :aria-labelledby="id" @cancel.prevent="emit('away')">
    <h2 :id="id">{{ title }}</h2>
    <slot />
  </dialog>
</template>

<style scoped>
.over {
  width: min(460px, calc(100vw - 2 * var(--s4)));
  max-height: calc(100vh - 2 * var(--s4));
  overflow-y: auto;
  border: 1px solid var(--line-strong);
  color: var(--ink);
}
.over h2 {
  margin-bottom: var(--s3);
}
.over::backdrop {
  background: rgb(0 0 0 / 45%);
}
</style>
