<script setup lang="ts">
// Choose people by typing part of a name: the first few matches to press, the chosen ones to take back.
// Whoever may not list people writes whole logins instead.
import { computed, ref, useId } from "vue";
import type { Schemas } from "@/api/client";
import { can } from "@/api/session";

const props = defineProps<{
  people: Schemas["Person"][];
  label: string;
  hint?: string;
  names?: Record<string, string>;
}>();
const chosen = defineModel<string[]>({ required: true });
const wanted = ref("");
const id = useId();
const MOST = 5;
const unlisted = computed(() => !can("people.list"));
const name = (login: string) => props.people.find((one) => one.login === login)?.name ?? props.names?.[login] ?? login;
const matches = computed(() => {
  const part = wanted.value.trim().toLowerCase();
  const free = props.people.filter((one) => one.active && !chosen.value.includes(one.login));
  return free.filter((one) => `${one.name} ${one.login}`.toLowerCase().includes(part)).slice(0, MOST);
});

function take(login: string): void {
  chosen.value = [...chosen.value, login];
  wanted.value = "";
}
function first(): void {
  const one = matches.value[0];
  const login = wanted.value.trim().toLowerCase();
  if (unlisted.value) {
    if (login && !chosen.value.includes(login)) take(login);
    return;
  }
  if (wanted.value.trim() && one) take(one.login);
}
</script>

<template>
  <div class="pick-people">
    <div>
      <label :for="id">{{ label }}</label> <span v-if="hint" class="hint">{{ hint }}</span>
    </div>
    <ul v-if="chosen.length" class="row chips" :aria-label="`${label} chosen`">
      <li v-for="login in chosen" :key="login">
        {{ name(login) }}
        <button type="button" :aria-label="`Take ${name(login)} back`" @click="chosen = chosen.filter((one) => one !== login)">×</button>
      </li>
    </ul>
    <div v-if="unlisted" class="row typed">
      <input
        :id="id"
        v-model="wanted"
        class="plain-input"
        type="text"
        autocomplete="off"
        placeholder="Whole login, as name@port.example"
        @keydown.enter.prevent="first"
      />
      <button type="button" class="add" :disabled="!wanted.trim()" @click="first">Add</button>
    </div>
    <input
      v-else
      :id="id"
      v-model="wanted"
      class="plain-input"
      type="search"
      autocomplete="off"
      placeholder="Part of a name"
      @keydown.enter.prevent="first"
    />
    <ul v-if="!unlisted" class="row matches" aria-label="Matches">
      <li v-for="one in matches" :key="one.login">
        <button type="button" @click="take(one.login)">+ {{ one.name }}</button>
      </li>
      <li v-if="!matches.length" class="soft small">{{ people.length ? "Nobody of that name" : "Reading …" }}</li>
    </ul>
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
