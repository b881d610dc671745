<script setup lang="ts">
// The rotations of one part of the page, in the same columns as those of the others.
import type { Schemas } from "@/api/client";
import RotationRow from "./RotationRow.vue";
import { t } from "@/texts/sentences";

defineProps<{ title: string; hint: string; rotations: Schemas["Rotation"][]; late?: boolean; ended?: boolean }>();
</script>

<template>
  <section v-if="rotations.length" :aria-label="title">
    <h2 :class="{ late }">
      {{ title }} <span class="soft small">{{ hint }}</span>
    </h2>
    <table class="log even">
      <thead>
        <tr>
          <th scope="col">Client</th>
          <th scope="col">Old → new</th>
          <th scope="col">Who uses the old one</th>
          <th scope="col">{{ ended ? t`How` : t`New one first used` }}</th>
          <th scope="col">{{ ended ? t`Ended` : t`Overlap ends` }}</th>
          <th scope="col"><span class="visually-hidden">Steps</span></th>
        </tr>
      </thead>
      <RotationRow v-for="one in rotations" :key="one.id" :one="one" />
    </table>
  </section>
</template>

<style scoped>
section {
  display: grid;
  gap: var(--s2);
  margin-bottom: var(--s5);
}
.late {
  color: var(--broken);
}
/* The same columns in every part, so that the eye can go down. */
.even {
  table-layout: fixed;
}
.even th:nth-child(1) {
  width: 15%;
}
.even th:nth-child(2) {
  width: 25%;
}
.even th:nth-child(4) {
  width: 12%;
}
.even th:nth-child(5) {
  width: 9%;
}
.even th:nth-child(6) {
  width: 23%;
}
</style>
