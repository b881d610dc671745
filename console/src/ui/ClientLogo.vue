<script setup lang="ts">
// A client's picture. Its name stands beside it, so that nothing is said of it to whoever does not see it.
import { directory } from "@/api/session";

defineProps<{ logo: string; slug?: string }>();
</script>

<template>
  <img class="logo" :src="`/d/${slug ?? directory}/logos/${logo}`" alt="" width="56" height="56" />
</template>

<style scoped>
.logo {
  display: block;
  border-radius: 8px;
  background: #fff;
}
</style>
