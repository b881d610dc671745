<script setup lang="ts">
// The code of a second factor, wanted after the password was right.
import { nextTick, onMounted, ref } from "vue";
import { say } from "@/texts";

defineProps<{ device?: boolean }>();
const code = defineModel<string>({ required: true });
const field = ref<HTMLInputElement | null>(null);
onMounted(async () => {
  await nextTick();
  field.value?.focus();
});
</script>

<template>
  <label class="field">
    {{ say("code.label") }} <span class="hint">{{ say(device ? "code.device" : "code.device_or_recovery") }}</span>
    <input ref="field" v-model="code" class="plain-input mono" name="code" autocomplete="one-time-code" required maxlength="60" />
  </label>
</template>
