<script setup lang="ts">
import PageHead from "@/ui/PageHead.vue";
</script>

<template>
  <PageHead title="Nothing is at this address" />
  <p>It may have been mistyped. <RouterLink to="/clients">All clients</RouterLink> are one step away.</p>
</template>
