<script setup lang="ts">
// Filters of this list by the names they were given: one press each. What is filtered now can be saved.
import { NButton } from "naive-ui";
import { computed, nextTick, ref } from "vue";
import { useRoute } from "vue-router";
import { filterOf, useSavedFilters } from "@/api/saved-filters";
import { t } from "@/texts/sentences";

const props = defineProps<{ list: string }>();
const route = useRoute();
const { saved, save, forget } = useSavedFilters(props.list);
const now = computed(() => filterOf(route.query));
const same = (query: Record<string, string>) => JSON.stringify(filterOf(query)) === JSON.stringify(now.value);
const unsaved = computed(() => Object.keys(now.value).length > 0 && !saved.value.some((one) => same(one.query)));
const naming = ref(false);
const name = ref("");
const field = ref<HTMLInputElement | null>(null);
async function begin(): Promise<void> {
  naming.value = true;
  name.value = "";
  await nextTick();
  field.value?.focus();
}
function keep(): void {
  if (!name.value.trim()) return;
  save(name.value, now.value);
  naming.value = false;
}
</script>

<template>
  <div v-if="saved.length || unsaved" class="row saved no-print" role="group" aria-label="Saved filters">
    <span v-if="saved.length" class="soft small">Saved filters</span>
    <span v-for="one in saved" :key="one.name" class="one">
      <RouterLink :to="{ query: one.query }" :aria-current="same(one.query) ? 'true' : undefined">{{ one.name }}</RouterLink>
      <button type="button" :aria-label="t`Forget the filter ${one.name}`" @click="forget(one.name)">×</button>
    </span>
    <template v-if="unsaved">
      <button v-if="!naming" type="button" class="link-button small" @click="begin">Save this filter</button>
      <form v-else class="row" @submit.prevent="keep" @keydown.esc="naming = false">
        <input
          ref="field"
          v-model="name"
          class="plain-input"
          maxlength="40"
          aria-label="Name of the filter"
          placeholder="Name of the filter"
        />
        <NButton size="small" @click="naming = false">Cancel</NButton>
        <NButton size="small" type="primary" attr-type="submit" :disabled="!name.trim()">Save</NButton>
      </form>
    </template>
  </div>
</template>

<style scoped>
.saved {
  gap: var(--s3);
  margin-bottom: var(--s3);
}
.one {
  display: inline-flex;
  align-items: center;
}
.one a[aria-current] {
  font-weight: 700;
}
.one button {
  font: inherit;
  color: inherit;
  background: none;
  border: 0;
  cursor: pointer;
  padding: 2px 8px;
}
</style>
