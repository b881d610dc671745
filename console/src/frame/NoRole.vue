<script setup lang="ts">
// What someone without a role sees: why, and whom to ask. The service words the refusal.
import PageHead from "@/ui/PageHead.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import { useToday } from "@/api/reads/audit";

const { error } = useToday();
</script>

<template>
  <PageHead title="You are signed in, and may not look further" />
  <ProblemNote v-if="error" :error="error" />
</template>
