<script setup lang="ts">
// An address at which nothing is: the pages that it may have meant, by its words.
import { computed } from "vue";
import { useRoute } from "vue-router";
import { can } from "@/api/session";
import { placesFor } from "@/frame/places";
import PageHead from "@/ui/PageHead.vue";
import { t } from "@/texts/sentences";

const route = useRoute();
const places = computed(() => placesFor(route.path, can));
</script>

<template>
  <PageHead title="Nothing is at this address" />
  <p>It may have been mistyped, or be of another directory. You may want to go to:</p>
  <ul class="places">
    <li v-for="place in places" :key="place.page">
      <RouterLink :to="{ name: place.page }">{{ t(place.name) }}</RouterLink>
    </li>
  </ul>
</template>

<style scoped>
.places {
  margin-top: var(--s2);
}
</style>
