<script setup lang="ts">
// The guide: a page for each of us, a recipe for each errand, and what the words mean. Open to everybody.
import { computed, nextTick, ref, watch } from "vue";
import { useRoute, useRouter } from "vue-router";
import { current } from "@/api/session";
import { type Hit, isPage, look, PAGES, readPage } from "./pages";
import type { GuidePage } from "../../../guide";
import { t } from "@/texts/sentences";

const route = useRoute();
const router = useRouter();
const name = computed(() => String(route.params.page || "index"));
const page = ref<GuidePage | null>(null);
const words = ref("");
const hits = ref<Hit[] | null>(null);
const failed = ref(false);

/** What a page has, or null where it does not come: the service was updated, or is away. */
async function loaded<T>(load: () => Promise<T>): Promise<T | null> {
  failed.value = false;
  try {
    return await load();
  } catch {
    failed.value = true;
    return null;
  }
}
async function open(wanted: string): Promise<void> {
  const found = isPage(wanted) ? await loaded(() => readPage(wanted)) : null;
  // Another was opened meanwhile.
  if (wanted !== name.value) return;
  page.value = found;
  if (found) document.title = `${found.title} · ${t`Help`} · Jamb`;
  await nextTick();
  if (route.hash) document.getElementById(decodeURIComponent(route.hash.slice(1)))?.scrollIntoView();
}
watch(name, open, { immediate: true });
watch(words, async (now) => {
  const found = now.trim().length > 1 ? await loaded(() => look(now)) : null;
  // What was typed meanwhile counts.
  if (now === words.value) hits.value = found;
});

function follow(event: MouseEvent): void {
  const link = (event.target as HTMLElement).closest("a");
  const to = link?.getAttribute("href");
  if (!to?.startsWith("/help") || event.ctrlKey || event.metaKey || event.shiftKey) return;
  event.preventDefault();
  void router.push(to);
}
function show(hit: Hit): void {
  words.value = "";
  void router.push(hit.to);
}
</script>

<template>
  <div class="help" :class="{ alone: !current }">
    <nav class="no-print" aria-label="Guide">
      <RouterLink v-if="!current" to="/" class="home">Jamb</RouterLink>
      <label class="field"
        >Look in the guide
        <input v-model="words" class="plain-input" type="search" maxlength="100" autocomplete="off" />
      </label>
      <ul>
        <li v-for="one in PAGES" :key="one.name">
          <RouterLink
            :to="one.name === 'index' ? '/help' : `/help/${one.name}`"
            :aria-current="one.name === name ? 'page' : undefined"
            :class="{ on: one.name === name }"
            >{{ t(one.title) }}</RouterLink
          >
        </li>
      </ul>
    </nav>
    <component :is="current ? 'div' : 'main'" class="text">
      <template v-if="failed">
        <h1 tabindex="-1">This part of the guide could not be loaded</h1>
        <p role="alert">The service was updated, or cannot be reached. <a :href="route.fullPath">Load the page again</a></p>
      </template>
      <section v-else-if="hits" role="status">
        <h1 tabindex="-1">
          {{ hits.length ? t`“${words}” in the guide` : t`Nothing in the guide has “${words}”` }}
        </h1>
        <p v-if="!hits.length">Try one word, or look in the <RouterLink to="/help/glossary">glossary</RouterLink>.</p>
        <ol class="hits">
          <li v-for="hit in hits" :key="hit.to">
            <RouterLink :to="hit.to" @click="show(hit)">{{ hit.title }}</RouterLink> <span class="soft">{{ hit.page }}</span>
            <p class="soft small">{{ hit.text }}</p>
          </li>
        </ol>
      </section>
      <!-- Made from our own files when the console was built; nothing of it comes from elsewhere. -->
      <!-- eslint-disable-next-line vue/no-v-html -->
      <article v-else-if="page" @click="follow" v-html="page.html"></article>
      <template v-else-if="!isPage(name)">
        <h1 tabindex="-1">The guide has no page “{{ name }}”</h1>
        <p><RouterLink to="/help">Where to begin</RouterLink></p>
      </template>
    </component>
  </div>
</template>

<style scoped>
.help {
  display: grid;
  grid-template-columns: minmax(0, 1fr) 210px;
  gap: var(--s6);
  align-items: start;
}
.alone {
  max-width: 1180px;
  margin: 0 auto;
  padding: var(--s5);
}
nav {
  order: 2;
  display: grid;
  gap: var(--s4);
  position: sticky;
  top: var(--s5);
}
nav ul {
  display: grid;
  gap: var(--s1);
}
nav li a {
  display: block;
  padding: 3px var(--s2);
  border-left: 3px solid transparent;
  text-decoration: none;
}
nav li a.on {
  border-color: var(--accent);
  font-weight: 640;
  color: var(--ink);
}
.home {
  font-weight: 680;
  color: inherit;
  text-decoration: none;
}
.text {
  max-width: 860px;
}
.hits {
  display: grid;
  gap: var(--s4);
  margin-top: var(--s4);
}
article :deep(h1) {
  font-size: var(--t-h1);
  font-weight: 660;
  line-height: 1.2;
}
article :deep(h2) {
  margin-top: var(--s6);
  padding-top: var(--s3);
  border-top: 1px solid var(--line);
  scroll-margin-top: var(--s3);
}
article :deep(h3) {
  margin-top: var(--s4);
}
article :deep(p),
article :deep(ul),
article :deep(ol),
article :deep(.wide),
article :deep(pre) {
  margin-top: var(--s3);
}
article :deep(ul) {
  list-style: disc;
  padding-left: 1.3em;
}
article :deep(ol) {
  list-style: decimal;
  padding-left: 1.6em;
}
article :deep(li + li) {
  margin-top: var(--s1);
}
article :deep(pre) {
  background: var(--sunk);
  padding: var(--s3);
  white-space: pre-wrap;
  overflow-wrap: anywhere;
}
article :deep(.line) {
  display: inline-block;
  width: 100%;
  padding-left: 1.6em;
  text-indent: -1.6em;
}
article :deep(.whole) {
  white-space: nowrap;
}
article :deep(.who) {
  color: var(--ink-soft);
  margin-bottom: calc(-1 * var(--s2));
}
article :deep(.wide) {
  overflow-x: auto;
}
article :deep(table) {
  border-collapse: collapse;
  width: 100%;
}
article :deep(td) {
  overflow-wrap: anywhere;
}
article :deep(th),
article :deep(td) {
  text-align: left;
  vertical-align: top;
  padding: 5px var(--s3) 5px 0;
  border-bottom: 1px solid var(--line);
}
article :deep(.both) {
  display: grid;
  grid-template-columns: repeat(2, minmax(0, 1fr));
  gap: var(--s5);
}
@media (max-width: 1100px) {
  .help,
  article :deep(.both) {
    grid-template-columns: minmax(0, 1fr);
  }
  nav {
    order: 0;
    position: static;
  }
}
</style>
