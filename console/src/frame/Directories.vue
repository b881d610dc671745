<script setup lang="ts">
// In which directory one is, and the others in which this browser is signed in: to go on there takes one press.
import { onBeforeUnmount, onMounted, ref } from "vue";
import { useRouter } from "vue-router";
import { current, switchDirectory } from "@/api/session";
import ProblemNote from "@/ui/ProblemNote.vue";
import { useAttempt } from "@/ui/use/attempt";
import { mayLeave } from "@/ui/use/unsaved";

const router = useRouter();
const open = ref(false);
const box = ref<HTMLElement | null>(null);
const button = ref<HTMLButtonElement | null>(null);
const { busy, error, attempt } = useAttempt();

const goOnIn = (slug: string) =>
  attempt(async () => {
    if (await mayLeave()) await switchDirectory(slug);
  });
async function elsewhere(): Promise<void> {
  open.value = false;
  await router.push({ name: "sign-in", query: { directory: "" } });
}
function shut(): void {
  open.value = false;
  button.value?.focus();
}
function onPress(event: PointerEvent): void {
  if (!box.value?.contains(event.target as Node)) open.value = false;
}
onMounted(() => document.addEventListener("pointerdown", onPress));
onBeforeUnmount(() => document.removeEventListener("pointerdown", onPress));
</script>

<template>
  <div ref="box" class="directories" @keydown.esc.stop="shut">
    <button ref="button" type="button" class="place" :aria-expanded="open" aria-controls="directories" @click="open = !open">
      <span class="mark" aria-hidden="true"></span>
      <span>
        <strong
          ><bdi>{{ current?.directory_name }}</bdi></strong
        >
        <span class="slug">{{ current?.directory }}</span>
        <span class="visually-hidden">, change the directory</span>
      </span>
      <span class="arrow" aria-hidden="true">▾</span>
    </button>
    <div v-if="open" id="directories" class="list">
      <p v-if="current?.others.length" class="soft small">Also signed in here:</p>
      <button v-for="other in current?.others" :key="other.directory" type="button" :disabled="busy" @click="goOnIn(other.directory)">
        <bdi>{{ other.directory_name }}</bdi>
        <span class="slug">{{ other.login }}</span>
      </button>
      <button type="button" @click="elsewhere">Sign in to another directory</button>
      <ProblemNote v-if="error" :error="error" />
    </div>
  </div>
</template>

<style scoped>
.directories {
  position: relative;
}
.place {
  all: unset;
  cursor: pointer;
  box-sizing: border-box;
  width: 100%;
  display: grid;
  grid-template-columns: auto minmax(0, 1fr) auto;
  gap: var(--s3);
  padding: 0 var(--s4);
  line-height: 1.25;
}
.place:hover strong {
  text-decoration: underline;
}
.place:focus-visible,
.list button:focus-visible {
  outline: 2px solid #f0b860;
  outline-offset: 2px;
}
.slug {
  display: block;
  font: var(--t-small) var(--mono);
  color: var(--rail-soft);
  margin-top: 2px;
  overflow-wrap: anywhere;
}
.arrow {
  color: var(--rail-soft);
}
.mark {
  width: 18px;
  height: 24px;
  border: 4px solid var(--rail-ink);
  border-bottom: 0;
  margin-top: 2px;
  background: linear-gradient(#d59a3a, #d59a3a) center bottom / 4px 9px no-repeat;
}
.list {
  position: absolute;
  z-index: 6;
  top: calc(100% + var(--s2));
  left: var(--s3);
  width: 320px;
  max-width: calc(100vw - 2 * var(--s4));
  display: grid;
  gap: var(--s1);
  padding: var(--s3);
  background: var(--rail);
  border: 1px solid var(--rail-soft);
  border-radius: var(--corner);
}
.list p {
  color: var(--rail-soft);
}
.list button {
  all: unset;
  cursor: pointer;
  color: var(--rail-ink);
  padding: var(--s2);
  border-radius: var(--corner);
}
.list button:hover {
  background: var(--rail-on);
}
</style>
