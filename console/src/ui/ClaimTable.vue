<script setup lang="ts">
// The claims of a token, each with what it means.
import type { ReadClaim } from "@/api/token";

defineProps<{ claims: ReadClaim[]; wrong: string[] }>();
</script>

<template>
  <p v-for="one in wrong" :key="one" class="wrong">✗ {{ one }}</p>
  <table class="log claims">
    <thead>
      <tr>
        <th scope="col">Claim</th>
        <th scope="col">Says</th>
        <th scope="col">Meaning</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="one in claims" :key="one.name">
        <th scope="row">
          <code>{{ one.name }}</code>
        </th>
        <td class="value">{{ one.value }}</td>
        <td class="soft small">
          {{ one.words }}<template v-if="one.source"> ({{ one.source }})</template>
        </td>
      </tr>
    </tbody>
  </table>
</template>

<style scoped>
.wrong {
  color: var(--broken);
  font-weight: 560;
}
.claims th[scope="row"] {
  text-align: left;
  font-weight: 400;
  vertical-align: top;
  background: none;
  border-bottom: 1px solid var(--line);
  padding: inherit;
}
.claims td,
.claims th[scope="row"] {
  vertical-align: top;
  padding: 6px 10px;
}
.value {
  overflow-wrap: anywhere;
  font-family: var(--mono);
  font-size: 12.5px;
}
</style>
