<script setup lang="ts">
// A text field with its label and hint tied to it.
import { useId } from "vue";

defineProps<{ label: string; hint?: string; placeholder?: string; longest: number }>();
const value = defineModel<string>({ required: true });
const id = useId();
</script>

<template>
  <div class="text-field">
    <div>
      <label :for="id">{{ label }}</label> <span v-if="hint" :id="`${id}-hint`" class="hint">{{ hint }}</span>
    </div>
    <input
      :id="id"
      v-model="value"
      class="plain-input"
      :maxlength="longest"
      :placeholder="placeholder ?? ''"
      :aria-describedby="hint ? `${id}-hint` : undefined"
      autocomplete="off"
    />
  </div>
</template>

<style scoped>
.text-field {
  display: grid;
  gap: var(--s1);
}
label {
  font-weight: 560;
}
</style>
