<script setup lang="ts">
// Which part of a long list is shown, and the ways to the others. The place in the list is part of the address.
import { computed } from "vue";
import { useRoute, useRouter } from "vue-router";
import { figure } from "@/ui/use/words";

const props = defineProps<{ next?: string | null; total?: number | null; shown: number; of: string }>();
const route = useRoute();
const router = useRouter();
const from = computed(() => Number(route.query.from ?? 0) || 0);
const onward = computed(() => ({ query: { ...route.query, cursor: props.next ?? undefined, from: from.value + props.shown } }));
const first = computed(() => ({ query: { ...route.query, cursor: undefined, from: undefined } }));
// Cursors lead onward only: the way back is the browser's own, where this tab came that way.
const back = computed(
  () => from.value > 0 && typeof window.history.state?.back === "string" && window.history.state.back.startsWith(route.path),
);
</script>

<template>
  <nav v-if="next || route.query.cursor" class="row pager" aria-label="Pages">
    <RouterLink v-if="route.query.cursor" :to="first">First page</RouterLink>
    <button v-if="back" type="button" class="link-button" @click="router.back()">Previous page</button>
    <span v-if="shown" class="soft"
      >{{ figure(from + 1) }} to {{ figure(from + shown) }}<template v-if="total != null"> of {{ figure(total) }}</template> {{ of }}</span
    >
    <RouterLink v-if="next" :to="onward">Next page</RouterLink>
  </nav>
</template>

<style scoped>
.pager {
  margin-top: var(--s3);
}
</style>
