<script setup lang="ts">
// Choose people by typing part of a name: the first few matches to press, the chosen ones to take back. The service
// looks, so that it does not matter how many there are. Whoever may not list people writes whole logins instead.
import { computed, nextTick, onBeforeUnmount, onMounted, ref, useId, watch } from "vue";
import type { Schemas } from "@/api/client";
import { readPeople } from "@/api/reads/directory";
import { can } from "@/api/session";
import { byArrows } from "@/ui/page/arrows";
import { t } from "@/texts/sentences";

const props = defineProps<{
  label: string;
  hint?: string;
  /** Of those who are chosen already. */
  names?: Record<string, string>;
  /** No more than one is meant. */
  single?: boolean;
}>();
const chosen = defineModel<string[]>({ required: true });
const wanted = ref("");
const id = useId();
const MOST = 5;
const PAUSE_MS = 200;
const unlisted = computed(() => !can("people.list"));
const found = ref<Schemas["Person"][] | null>(null);
const failed = ref(false);
const met = ref<Record<string, string>>({});
const name = (login: string) => met.value[login] ?? props.names?.[login] ?? login;
const isChosen = (one: Schemas["Person"]) => chosen.value.includes(one.login) || chosen.value.includes(one.id);
const matches = computed(() => (found.value ?? []).filter((one) => !isChosen(one)).slice(0, MOST));
const open = computed(() => !(props.single && chosen.value.length));

let pause = 0;
let asked = 0;
// For which word there are matches.
let looked: string | null = null;
async function look(): Promise<void> {
  window.clearTimeout(pause);
  if (unlisted.value) return;
  const word = wanted.value.trim();
  const mine = ++asked;
  try {
    const page = await readPeople({ q: word, active: true, limit: Math.min(MOST + chosen.value.length, 100) });
    if (mine !== asked) return;
    found.value = page.items;
    for (const one of page.items) met.value[one.login] = one.name;
    looked = word;
    failed.value = false;
  } catch {
    if (mine === asked) failed.value = true;
  }
}
// Whoever presses Enter and saves at once has chosen, though the service has not answered yet: the form waits for it.
const root = ref<HTMLElement | null>(null);
let pending: Promise<void> | null = null;
function hold(event: SubmitEvent): void {
  if (!pending) return;
  const [form, by] = [event.target as HTMLFormElement, event.submitter];
  event.preventDefault();
  event.stopImmediatePropagation();
  void pending.then(nextTick).then(() => form.requestSubmit(by));
}
let form: HTMLFormElement | null = null;
onMounted(() => {
  form = root.value?.closest("form") ?? null;
  form?.addEventListener("submit", hold, true);
  void look();
});
onBeforeUnmount(() => {
  window.clearTimeout(pause);
  form?.removeEventListener("submit", hold, true);
});
watch(wanted, () => {
  window.clearTimeout(pause);
  pause = window.setTimeout(() => void look(), PAUSE_MS);
});

function take(login: string): void {
  chosen.value = [...chosen.value, login];
  wanted.value = "";
}
function enter(): void {
  const mine = first().finally(() => {
    if (pending === mine) pending = null;
  });
  pending = mine;
}
async function first(): Promise<void> {
  const word = wanted.value.trim();
  if (!word) return;
  if (unlisted.value) {
    if (!chosen.value.includes(word.toLowerCase())) take(word.toLowerCase());
    return;
  }
  if (looked !== word) await look();
  const one = matches.value[0];
  if (looked === word && wanted.value.trim() === word && one) take(one.login);
}
</script>

<template>
  <div ref="root" class="pick-people">
    <div>
      <label :for="id">{{ label }}</label> <span v-if="hint" class="hint">{{ hint }}</span>
    </div>
    <ul v-if="chosen.length" class="row chips" :aria-label="t`${label} chosen`">
      <li v-for="login in chosen" :key="login">
        {{ name(login) }}
        <button type="button" :aria-label="t`Remove ${name(login)}`" @click="chosen = chosen.filter((one) => one !== login)">×</button>
      </li>
    </ul>
    <div v-if="unlisted && open" class="row typed">
      <input
        :id="id"
        v-model="wanted"
        class="plain-input"
        type="text"
        autocomplete="off"
        placeholder="Whole login, as name@port.example"
        @keydown.enter.prevent="enter"
      />
      <button type="button" class="add" :disabled="!wanted.trim()" @click="enter">Add</button>
    </div>
    <input
      v-else-if="open"
      :id="id"
      v-model="wanted"
      class="plain-input"
      type="search"
      autocomplete="off"
      placeholder="Part of a name"
      @keydown.enter.prevent="enter"
    />
    <p v-if="failed" class="small" role="alert">
      People cannot be read now. <button type="button" class="link-button" @click="look">Try again</button>
    </p>
    <div v-else-if="!unlisted && open && matches.length" class="row matches" role="toolbar" aria-label="Matches" @keydown="byArrows">
      <button v-for="(one, place) in matches" :key="one.login" type="button" :tabindex="place ? -1 : 0" @click="take(one.login)">
        + {{ one.name }}
      </button>
    </div>
    <p v-else-if="!unlisted && open" class="soft small">{{ found ? t`Nobody of that name` : t`Reading …` }}</p>
  </div>
</template>

<style scoped>
.pick-people {
  display: grid;
  gap: 6px;
}
label {
  font-weight: 560;
}
.row {
  gap: var(--s2);
}
.chips li {
  background: var(--sunk);
  border: 1px solid var(--line-strong);
  border-radius: var(--corner);
  padding: 1px 2px 1px 8px;
}
.chips button {
  all: unset;
  cursor: pointer;
  padding: 2px 8px;
  font-weight: 700;
}
.typed input {
  flex: 1;
}
.matches button,
.add {
  font: inherit;
  font-size: 13px;
  color: var(--accent);
  background: transparent;
  border: 1px solid var(--line);
  border-radius: var(--corner);
  padding: 3px 8px;
  cursor: pointer;
}
.matches button:hover,
.add:hover:enabled {
  border-color: var(--accent);
}
button:focus-visible {
  outline: 2px solid var(--focus);
  outline-offset: 1px;
}
</style>
