<script setup lang="ts">
// A decision, with words for whoever asked. Declining is the default: Enter declines, and what lets something happen is
// the other button, which says what it does.
import { NButton } from "naive-ui";
import { nextTick, ref } from "vue";
import TextField from "@/ui/forms/TextField.vue";
import { t } from "@/texts/sentences";

const props = defineProps<{ asker: string; grant: string; busy: boolean; blocked?: boolean; takesBack?: boolean }>();
const emit = defineEmits<{ decide: [decision: "grant" | "decline", words: string]; takeBack: [] }>();
const words = ref("");
const wanting = ref(false);
const form = ref<HTMLFormElement | null>(null);

async function decline(): Promise<void> {
  wanting.value = !words.value.trim();
  if (!wanting.value) return emit("decide", "decline", words.value);
  await nextTick();
  form.value?.querySelector("input")?.focus();
}
</script>

<template>
  <form ref="form" class="stack" @submit.prevent="decline">
    <TextField
      v-model="words"
      label="Words"
      :hint="t`for ${props.asker}; a decline needs them`"
      :fault="wanting && !words.trim() ? t`Say why you decline: ${props.asker} reads it.` : ''"
      :longest="500"
      placeholder="Why, or why not"
    />
    <div class="row">
      <NButton type="primary" size="large" attr-type="submit" :disabled="busy">Decline</NButton>
      <NButton size="large" :disabled="busy || blocked" :loading="busy" @click="emit('decide', 'grant', words)">{{ grant }}</NButton>
      <NButton v-if="takesBack" quaternary :disabled="busy" @click="emit('takeBack')">Take it back</NButton>
      <span class="soft small">Leaving this page decides nothing.</span>
    </div>
  </form>
</template>
