<script setup lang="ts">
// A page that cannot be shown, why, and a way on. Where nothing is shown yet it is the whole page, else a line above it.
import { NButton } from "naive-ui";
import { computed, onBeforeUnmount, onMounted, ref } from "vue";
import { useRouter } from "vue-router";
import { problemOf } from "@/api/problems";
import { say } from "@/texts";
import { told } from "@/texts/problems";
import { type Failure, failed } from "./failures";

const props = defineProps<{ failure: Failure }>();
const router = useRouter();
const RETRY_MS = 5_000;
const trying = ref(false);
let timer = 0;
const said = computed(() => told(problemOf(props.failure.error)));

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
      <h1>{{ say("over.start.title") }}</h1>
      <p :lang="said.lang">{{ said.detail }}</p>
      <p class="soft">{{ say("over.start.again", { seconds: RETRY_MS / 1000 }) }}</p>
      <div class="row">
        <NButton type="primary" :loading="trying" @click="again">{{ say("over.start.now") }}</NButton>
      </div>
    </section>
  </main>
  <div v-else class="above" role="alert">
    <span
      ><strong>{{ say("over.part.title") }}</strong> {{ say("over.part.why") }}</span
    >
    <NButton size="small" @click="again">{{ say("over.part.load") }}</NButton>
    <NButton size="small" @click="failed = null">{{ say("over.unsaved.stay") }}</NButton>
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
