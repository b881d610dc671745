<script setup lang="ts">
// What is cut says so, and leads to the rest.
import { NButton } from "naive-ui";
import { figure } from "@/ui/use/words";

defineProps<{ shown: number; more: boolean; busy: boolean }>();
defineEmits<{ more: [] }>();
</script>

<template>
  <div v-if="more" class="row rest">
    <NButton size="small" :loading="busy" :disabled="busy" @click="$emit('more')">Show more</NButton>
    <span class="soft small" role="status">The first {{ figure(shown) }} are shown; there are more.</span>
  </div>
</template>

<style scoped>
.rest {
  margin-top: var(--s2);
}
</style>
