<script setup lang="ts">
// Look for some of a list that the service pages: it looks a moment after one typed.
import { onBeforeUnmount, ref, watch } from "vue";
import { figure } from "@/ui/use/words";

const PAUSE_MS = 250;
const props = defineProps<{ label: string; shown: number; total: number | null }>();
const word = defineModel<string>({ required: true });
const typed = ref(word.value);
watch(word, (now) => (typed.value = now === typed.value.trim() ? typed.value : now));
let pause = 0;
const say = () => (word.value = typed.value.trim());
function later(): void {
  window.clearTimeout(pause);
  pause = window.setTimeout(say, PAUSE_MS);
}
onBeforeUnmount(() => window.clearTimeout(pause));
</script>

<template>
  <form class="row find" @submit.prevent="say">
    <input
      v-model="typed"
      class="plain-input"
      type="search"
      :aria-label="props.label"
      :placeholder="props.label"
      maxlength="100"
      @input="later"
    />
    <span role="status" class="soft small">
      <template v-if="word && !shown">Nothing matches.</template>
      <template v-else-if="word && total !== null">{{ figure(total) }} {{ total === 1 ? "matches" : "match" }}</template>
    </span>
  </form>
</template>

<style scoped>
.find {
  margin: var(--s2) 0;
}
input {
  width: min(280px, 100%);
}
</style>
