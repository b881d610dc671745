<script setup lang="ts">
// The pages of the audit beside each other.
import { can } from "@/api/session";
import { t } from "@/texts/sentences";

const PLACES = [
  { name: "audit", label: t`Findings`, needs: "findings.list" },
  { name: "consents", label: t`Consents`, needs: "consents.list" },
  { name: "excess", label: t`Excess`, needs: "excess.rank" },
  { name: "escalation", label: t`Escalation`, needs: "escalation.read" },
  { name: "reviews", label: t`Reviews`, needs: "reviews.mine" },
  { name: "removed", label: t`Removed`, needs: "removals.list" },
];
</script>

<template>
  <nav class="row tabs" aria-label="Audit">
    <RouterLink
      v-for="one in PLACES.filter((place) => can(place.needs))"
      :key="one.name"
      :to="{ name: one.name }"
      :aria-current="$route.name === one.name ? 'page' : undefined"
      >{{ one.label }}</RouterLink
    >
  </nav>
</template>

<style scoped>
.tabs {
  gap: var(--s4);
  margin-top: var(--s1);
}
.tabs a {
  color: var(--ink);
  text-decoration: none;
  padding: 2px 0;
  border-bottom: 2px solid transparent;
}
.tabs a:hover {
  text-decoration: underline;
}
.tabs a[aria-current] {
  font-weight: 620;
  border-bottom-color: var(--accent);
}
</style>
