<script setup lang="ts">
// A text field with its label and hint tied to it.
import { computed, useId } from "vue";

const id = useId();
const props = defineProps<{ label: string; hint?: string; placeholder?: string; longest: number; fault?: string; required?: boolean }>();
const described = computed(() => [props.hint && `${id}-hint`, props.fault && `${id}-fault`].filter(Boolean).join(" ") || undefined);
const value = defineModel<string>({ required: true });
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
      :aria-describedby="described"
      :aria-invalid="fault ? true : undefined"
      :required="required"
      autocomplete="off"
    />
    <p v-if="fault" :id="`${id}-fault`" class="fault" role="alert">▲ {{ fault }}</p>
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
.fault {
  color: var(--broken);
}
</style>
