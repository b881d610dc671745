<script setup lang="ts">
// The questions of a review, client by client, with what each client is for.
import { computed } from "vue";
import type { Schemas } from "@/api/client";
import Question from "./Question.vue";

const props = defineProps<{ review: string; items: Schemas["ReviewItem"][]; closed: boolean }>();
const clients = computed(() => {
  const found = new Map<string, { id: string; name: string; purpose: string; items: Schemas["ReviewItem"][] }>();
  for (const item of props.items) {
    if (!found.has(item.client_id))
      found.set(item.client_id, { id: item.client_id, name: item.client_name, purpose: item.purpose, items: [] });
    found.get(item.client_id)?.items.push(item);
  }
  return [...found.values()];
});
</script>

<template>
  <section v-for="one in clients" :key="one.id" class="client">
    <h3>
      <RouterLink :to="{ name: 'dossier', params: { id: one.id } }">{{ one.name }}</RouterLink>{{ " " }}
      <span class="soft small">{{ one.purpose }}</span>
    </h3>
    <ul>
      <Question v-for="item in one.items" :key="item.id" :review="review" :item="item" :closed="closed" />
    </ul>
  </section>
</template>

<style scoped>
.client {
  margin-bottom: var(--s4);
  display: grid;
  gap: var(--s2);
}
h3 {
  font-size: var(--t-lead);
  margin: 0;
}
h3 .soft {
  font-weight: 400;
}
ul {
  display: grid;
  gap: var(--s2);
  padding: 0;
}
</style>
