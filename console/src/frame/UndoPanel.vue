<script setup lang="ts">
// What this person did within the hour, and a press to undo it. It opens when something was done and shuts by itself;
// the button in the rail opens it again.
import { NButton } from "naive-ui";
import { onBeforeUnmount, onMounted, ref, watch } from "vue";
import { forget, tick, undo, undoable } from "@/api/undo";
import type { Undo } from "@/api/undo";
import { useStale } from "@/api/reads/directory";
import Moment from "@/ui/Moment.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import { t } from "@/texts/sentences";

const SHOWN_MS = 20_000;
const open = ref(false);
const busy = ref(0);
const said = ref("");
const failed = ref<{ id: number; error: unknown } | null>(null);
const panel = ref<HTMLElement | null>(null);
const stale = useStale();
let timer = 0;

function shutLater(): void {
  window.clearTimeout(timer);
  timer = window.setTimeout(() => {
    // Not from under anybody's hand.
    if (panel.value?.matches(":hover, :focus-within") || failed.value) shutLater();
    else open.value = false;
  }, SHOWN_MS);
}
watch(
  () => undoable.value[0]?.id,
  (now, before) => {
    if (now === undefined || now <= (before ?? 0)) return;
    open.value = true;
    said.value = "";
    shutLater();
  },
);
async function run(one: Undo): Promise<void> {
  busy.value = one.id;
  failed.value = null;
  try {
    await undo(one);
    // The page shows it before it is said: what is opened upon hearing it begins with how it is now.
    await stale();
    said.value = t`It is undone.`;
  } catch (error) {
    failed.value = { id: one.id, error };
  } finally {
    busy.value = 0;
  }
}
// What is older than an hour goes, though nothing is pressed.
let every = 0;
onMounted(() => (every = window.setInterval(tick, 60_000)));
onBeforeUnmount(() => {
  window.clearInterval(every);
  window.clearTimeout(timer);
});
</script>

<template>
  <button v-if="undoable.length" type="button" :aria-expanded="open" aria-controls="undo" @click="open = !open">
    Undo {{ undoable.length }}<span class="visually-hidden"> changes within the hour</span>
  </button>
  <Teleport to="body">
    <section
      v-show="open && (undoable.length || said)"
      id="undo"
      ref="panel"
      class="undo card no-print"
      aria-label="What you did within the hour"
    >
      <p role="status" :class="{ 'visually-hidden': !said }">{{ said || (open ? undoable[0]?.said : "") }}</p>
      <ul class="stack">
        <li v-for="one in undoable" :key="one.id">
          <span class="what"
            ><bdi>{{ one.said }}</bdi> <Moment :at="new Date(one.at).toISOString()" class="soft small"
          /></span>
          <NButton size="small" :loading="busy === one.id" :disabled="busy > 0" :aria-label="t`Undo: ${one.said}`" @click="run(one)"
            >Undo</NButton
          >
          <button type="button" class="link-button" :aria-label="t`Keep it so: ${one.said}`" @click="forget(one.id)">×</button>
          <ProblemNote v-if="failed?.id === one.id" :error="failed.error" />
        </li>
      </ul>
      <button type="button" class="link-button small" @click="open = false">Close</button>
    </section>
  </Teleport>
</template>

<style scoped>
.undo {
  position: fixed;
  right: var(--s4);
  bottom: var(--s4);
  z-index: 4;
  width: min(420px, calc(100% - 2 * var(--s4)));
  max-height: min(50vh, 360px);
  overflow-y: auto;
  padding: var(--s3) var(--s4);
  box-shadow: 0 2px 12px rgb(0 0 0 / 18%);
}
.undo li {
  display: grid;
  grid-template-columns: 1fr auto auto;
  gap: var(--s2);
  align-items: center;
}
.undo li > .problem {
  grid-column: 1 / -1;
}
.what {
  overflow-wrap: anywhere;
}
</style>
