<script setup lang="ts">
// A page that cannot be shown, why, and a way on. Where nothing is shown yet it is the whole page, else a line above it.
import { NButton } from "naive-ui";
import { computed, onBeforeUnmount, onMounted, ref } from "vue";
import { useRouter } from "vue-router";
import { problemOf } from "@/api/problems";
import { type Failure, failed } from "./failures";

const props = defineProps<{ failure: Failure }>();
const router = useRouter();
const RETRY_MS = 5_000;
const trying = ref(false);
let timer = 0;
const problem = computed(() => problemOf(props.failure.error));

async function again(): Promise<void> {
  if (trying.value) return;
  if (props.failure.kind === "part") {
    window.location.assign(props.failure.to);
    return;
  }
  trying.value = true;
  await router.replace(props.failure.to).catch(() => undefined);
  trying.value = false;
}
onMounted(() => {
  if (props.failure.kind === "start") timer = window.setInterval(() => void again(), RETRY_MS);
});
onBeforeUnmount(() => window.clearInterval(timer));
</script>

<template>
  <main v-if="failure.kind === 'start'" class="alone">
    <section class="card stack" role="alert">
      <h1>Jamb cannot be shown now</h1>
      <p>{{ problem.detail }}</p>
      <p class="soft">It is tried again every {{ RETRY_MS / 1000 }} seconds.</p>
      <div class="row"><NButton type="primary" :loading="trying" @click="again">Try again now</NButton></div>
    </section>
  </main>
  <div v-else class="above" role="alert">
    <span
      ><strong>This page could not be loaded.</strong> The service was updated, or cannot be reached. The page you are on still works.</span
    >
    <NButton size="small" @click="again">Load it again</NButton>
    <NButton size="small" @click="failed = null">Stay here</NButton>
  </div>
</template>

<style scoped>
.alone {
  min-height: 100vh;
  display: grid;
  place-items: center;
  padding: var(--s5);
}
.alone section {
  width: min(480px, 100%);
}
.above {
  position: sticky;
  top: 0;
  z-index: 4;
  display: flex;
  flex-wrap: wrap;
  gap: var(--s3);
  align-items: center;
  padding: var(--s3) var(--s4);
  background: var(--broken-bg);
  border-bottom: 1px solid var(--broken);
}
</style>
