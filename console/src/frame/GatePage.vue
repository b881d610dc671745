<script setup lang="ts">
// A page for whoever is not signed in: one card, under the product's name. `home`: the name leads to the first page.
withDefaults(defineProps<{ width?: number; beside?: boolean; home?: boolean }>(), { width: 480, beside: false, home: false });
</script>

<template>
  <main class="gate" :class="{ beside, top: home }">
    <section class="leaf stack" :style="{ width: `min(${width}px, 100%)` }">
      <p>
        <RouterLink v-if="home" to="/" class="name"><span class="mark" aria-hidden="true"></span> Jamb</RouterLink>
        <span v-else class="name"><span class="mark" aria-hidden="true"></span> Jamb</span>
      </p>
      <slot />
    </section>
  </main>
</template>

<style scoped>
.gate {
  min-height: 100vh;
  display: grid;
  place-items: center;
  padding: var(--s5);
  background: var(--paper);
}
/* Where the rail will stand once one is signed in. */
.gate.beside {
  padding-left: 236px;
  background: linear-gradient(90deg, var(--rail) 212px, var(--paper) 212px);
}
@media (max-width: 860px) {
  .gate,
  .gate.beside {
    padding: var(--s3);
    background: var(--paper);
  }
  .leaf {
    padding: var(--s4);
  }
}
.gate.top {
  place-items: start center;
  padding-top: var(--s6);
}
.leaf {
  background: var(--card);
  border-top: 3px solid var(--ink);
  padding: var(--s6);
}
.name {
  display: inline-flex;
  gap: var(--s2);
  align-items: center;
  font-weight: 680;
  color: inherit;
  text-decoration: none;
}
.mark {
  width: 14px;
  height: 18px;
  border: 3px solid var(--ink);
  border-bottom: 0;
  background: linear-gradient(#c98520, #c98520) center bottom / 3px 7px no-repeat;
}
</style>
