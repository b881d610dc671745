<script setup lang="ts">
// Look for some of a list that the service pages: it looks a moment after one typed.
import { useTyped } from "@/ui/use/typed";
import { count } from "@/ui/use/words";

defineProps<{ label: string; shown: number; total: number | null }>();
const word = defineModel<string>({ required: true });
const say = (text: string) => (word.value = text);
const { wanted, typed } = useTyped(() => word.value, say);
</script>

<template>
  <form class="row find" @submit.prevent="say(wanted.trim())">
    <input v-model="wanted" class="plain-input" type="search" :aria-label="label" :placeholder="label" maxlength="100" @input="typed" />
    <span role="status" class="soft small">
      <template v-if="word && !shown">Nothing matches.</template>
      <template v-else-if="word && total !== null">{{ count(total, "matches", "match") }}</template>
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
