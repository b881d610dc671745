<script setup lang="ts">
// The map of keys.
import { onMounted, ref } from "vue";

defineEmits<{ close: [] }>();
const KEYS = [
  ["/", "find anything: a page, a client, a person, a permission"],
  ["j  k", "next and previous row of a list; in it the arrows, too"],
  ["Enter", "open the row"],
  ["Esc", "close what is open"],
  ["?", "this map"],
];
const button = ref<HTMLButtonElement | null>(null);
onMounted(() => button.value?.focus());
</script>

<template>
  <section class="map card" role="dialog" aria-labelledby="keys-title">
    <h2 id="keys-title">Keys</h2>
    <dl class="facts">
      <template v-for="[key, what] in KEYS" :key="key"
        ><dt>
          <kbd>{{ key }}</kbd>
        </dt>
        <dd>{{ what }}</dd></template
      >
    </dl>
    <button ref="button" type="button" class="link-button" @click="$emit('close')">Close</button>
  </section>
</template>

<style scoped>
.map {
  position: fixed;
  right: var(--s5);
  bottom: var(--s5);
  display: grid;
  gap: var(--s3);
  border: 1px solid var(--line-strong);
  z-index: 5;
}
kbd {
  font-family: var(--mono);
  white-space: pre;
}
</style>
