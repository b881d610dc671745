<script setup lang="ts">
import type { Schemas } from "@/api/client";
import StateWord from "@/ui/StateWord.vue";
import { severityTone } from "@/ui/use/states";
import { listed } from "@/texts/listed";

defineProps<{ findings: Schemas["Finding"][] }>();
</script>

<template>
  <p v-if="!findings.length" class="empty">The audit finds nothing here.</p>
  <table v-else class="log">
    <thead>
      <tr>
        <th scope="col">Severity</th>
        <th scope="col">What is wrong</th>
        <th scope="col">What to do</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="one in findings" :key="one.rule + one.subject">
        <td><StateWord :tone="severityTone[one.severity] ?? 'gone'" :word="listed(one.severity)" /></td>
        <td class="free">{{ one.title }}</td>
        <td class="free">{{ one.remedy }}</td>
      </tr>
    </tbody>
  </table>
</template>

<style scoped>
.empty {
  border-top: 2px solid var(--line-strong);
  padding: var(--s3) 0;
}
</style>
