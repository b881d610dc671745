<script setup lang="ts">
// Find anything: what fits is listed while one types, by kind; arrows choose, Enter goes there (WAI-ARIA, combobox).
import { computed, onBeforeUnmount, ref, useId, watch } from "vue";
import { type RouteLocationRaw, useRouter } from "vue-router";
import { type Schemas, api, must } from "@/api/client";
import { whoseSecret } from "@/api/secrets";
import { can, directory } from "@/api/session";
import { placesNamed } from "./places";
import { t } from "@/texts/sentences";

type Found = Pick<Schemas["Found"], "id" | "name" | "resource" | "more"> & { kind: Schemas["Found"]["kind"] | "page" };
const KINDS: Record<Found["kind"], string> = {
  page: t`Pages`,
  client: t`Clients`,
  credential: t`Credentials`,
  person: t`People`,
  group: t`Groups`,
  role: t`Roles`,
  resource: t`Resources`,
  permission: t`Permissions`,
  operation: t`Operations`,
};
const SHORTEST = 2;
const SECRET_LENGTH = 60;
const HINT_LENGTH = 12;
const PAUSE_MS = 180;

const router = useRouter();
const id = useId();
const field = ref<HTMLInputElement | null>(null);
const wanted = ref("");
const records = ref<Schemas["Found"][] | null>(null);
const chosen = ref(-1);
// A whole secret stands in no address and leaves this page only as its digest.
const isSecret = (text: string) => text.startsWith("jamb_") && text.length >= SECRET_LENGTH;
// Pages are known here, and stand first at once.
const pages = computed<Found[]>(() =>
  isSecret(wanted.value.trim())
    ? []
    : placesNamed(wanted.value, can).map((place) => ({ kind: "page", id: place.page, name: t(place.name), resource: "", more: "" })),
);
const found = computed<Found[]>(() => [...pages.value, ...(records.value ?? [])]);
const open = ref(false);
const shown = computed(() => open.value && wanted.value.trim().length >= SHORTEST && (records.value !== null || pages.value.length > 0));
let pause = 0;
let asked = 0;
onBeforeUnmount(() => window.clearTimeout(pause));

watch(wanted, (now) => {
  window.clearTimeout(pause);
  const text = now.trim();
  chosen.value = -1;
  open.value = true;
  if (text.length < SHORTEST || isSecret(text) || !can("search")) {
    asked++;
    records.value = null;
    return;
  }
  pause = window.setTimeout(() => void look(text), PAUSE_MS);
});
async function look(text: string): Promise<void> {
  const mine = ++asked;
  const params = { path: { directory: directory.value }, query: { q: text } };
  const rows = await must(api.GET("/api/v1/directories/{directory}/search", { params })).catch(() => null);
  // An older answer is never shown beside newer words.
  if (mine === asked) records.value = rows;
}

const to = (one: Found): RouteLocationRaw => {
  if (one.kind === "page") return { name: one.id };
  if (one.kind === "client") return { name: "dossier", params: { id: one.id } };
  if (one.kind === "credential") return { name: "dossier", params: { id: one.id }, hash: "#credentials" };
  if (one.kind === "resource") return { name: "resources", params: { name: one.resource } };
  if (one.kind === "permission" || one.kind === "operation")
    return { name: "resources", params: { name: one.resource }, query: { find: one.name } };
  return { name: "people", query: { [one.kind]: one.name } };
};
function close(): void {
  open.value = false;
  chosen.value = -1;
}
async function go(one: Found): Promise<void> {
  wanted.value = "";
  close();
  await router.push(to(one));
}
async function enter(): Promise<void> {
  const text = wanted.value.trim();
  const one = shown.value ? found.value[chosen.value] : undefined;
  if (one) return go(one);
  close();
  if (!isSecret(text)) {
    await router.push({ name: "clients", query: text ? { q: text } : {} });
    return;
  }
  wanted.value = "";
  const owner = await whoseSecret(text);
  await router.push(owner ? `/clients/${owner}#credentials` : { name: "clients", query: { q: `${text.slice(0, HINT_LENGTH)}…` } });
}
function step(by: number): void {
  const many = found.value.length;
  if (!many) return;
  open.value = true;
  chosen.value = chosen.value < 0 && by < 0 ? many - 1 : (chosen.value + by + many) % many;
  document.getElementById(`${id}-${chosen.value}`)?.scrollIntoView({ block: "nearest" });
}
const heads = (place: number) => found.value[place]?.kind !== found.value[place - 1]?.kind;
const leave = (event: FocusEvent) => {
  if (!(event.currentTarget as HTMLElement).contains(event.relatedTarget as Node | null)) close();
};
defineExpose({ focus: () => field.value?.focus() });
</script>

<template>
  <form role="search" class="find" @submit.prevent="enter" @focusout="leave">
    <input
      ref="field"
      v-model="wanted"
      type="search"
      role="combobox"
      aria-label="Find anything"
      aria-autocomplete="list"
      :aria-expanded="shown"
      :aria-controls="`${id}-list`"
      :aria-activedescendant="chosen >= 0 ? `${id}-${chosen}` : undefined"
      title="A page, a name, a login, an id, a permission, a secret's hint, a thumbprint, or a secret that turned up"
      placeholder="Find   /"
      maxlength="200"
      @keydown.down.prevent="step(1)"
      @keydown.up.prevent="step(-1)"
      @keydown.esc="close"
    />
    <div v-if="shown" class="found">
      <ul v-if="found.length" :id="`${id}-list`" role="listbox" aria-label="Found">
        <li
          v-for="(one, place) in found"
          :id="`${id}-${place}`"
          :key="`${one.kind}/${one.resource}/${one.id}`"
          role="option"
          :aria-selected="place === chosen"
          :class="{ chosen: place === chosen, first: heads(place) }"
          @mousedown.prevent
          @click="go(one)"
        >
          <span class="kind">{{ heads(place) ? KINDS[one.kind] : "" }}</span>
          <span class="what"
            ><bdi>{{ one.name }}</bdi
            ><span v-if="one.kind === 'permission' || one.kind === 'operation' || one.kind === 'role'" class="soft small">
              at {{ one.resource }}</span
            >
            <span class="soft small more"
              ><bdi>{{ one.more }}</bdi></span
            ></span
          >
        </li>
      </ul>
      <p v-else class="nothing">Nothing has “{{ wanted.trim() }}” in its name.</p>
      <p class="visually-hidden" role="status">{{ found.length ? t`${found.length} found` : t`Nothing found` }}</p>
    </div>
  </form>
</template>

<style scoped>
.find {
  position: relative;
  padding: 0 var(--s4);
}
input {
  width: 100%;
  font: inherit;
  font-size: 13px;
  color: var(--rail-ink);
  background: var(--rail-on);
  border: 1px solid var(--rail-soft);
  border-radius: var(--corner);
  padding: 5px 8px;
}
input::placeholder {
  color: var(--rail-soft);
  opacity: 1;
}
.found {
  position: absolute;
  left: var(--s4);
  top: calc(100% + 4px);
  z-index: 6;
  width: min(560px, calc(100vw - 2 * var(--s4)));
  max-height: 70vh;
  overflow-y: auto;
  background: var(--card);
  color: var(--ink);
  border: 1px solid var(--line-strong);
  border-radius: var(--corner);
  box-shadow: 0 8px 24px rgb(0 0 0 / 22%);
}
li {
  display: grid;
  grid-template-columns: 92px minmax(0, 1fr);
  gap: var(--s3);
  padding: 5px var(--s3);
  cursor: pointer;
}
li.first {
  border-top: 1px solid var(--line);
}
li.first:first-child {
  border-top: 0;
}
li.chosen,
li:hover {
  background: color-mix(in srgb, var(--accent) 14%, transparent);
}
.kind {
  color: var(--ink-soft);
  font-size: var(--t-small);
}
.more {
  display: block;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.nothing {
  padding: var(--s3);
}
@media (forced-colors: active) {
  li.chosen {
    outline: 2px solid Highlight;
  }
}
</style>
