<script setup lang="ts">
// The rail and the page beside it. The rail never scrolls away and has no second level.
import { computed, onBeforeUnmount, onMounted, ref, watch } from "vue";
import { useRoute, useRouter } from "vue-router";
import { can, current, hasRole, signOut } from "@/api/session";
import { useWaiting } from "@/api/reads/audit";
import { theme, toggleTheme } from "@/ui/style/theme";
import { NEXT, showNext, shown } from "@/ui/use/times";
import Directories from "./Directories.vue";
import Find from "./Find.vue";
import KeyMap from "./KeyMap.vue";
import NoRole from "./NoRole.vue";
import UndoPanel from "./UndoPanel.vue";
import { placesAt } from "./places";
import { t } from "@/texts/sentences";

// Who only owns clients finds only the pages that show theirs.
const places = computed(() => {
  const own = can("audit.read") ? [] : ["reviews"];
  return placesAt(["today", "clients", "desk", "rotation", "audit", ...own, "resources", "people", "directory"], can);
});
// An owner comes seldom: the rail says what waits for them.
const { total: waiting } = useWaiting(() => !can("audit.read"));
const WITHIN: Record<string, string> = {
  dossier: "clients",
  consent: "clients",
  request: "desk",
  register: "clients",
  charter: "clients",
  consents: "audit",
  excess: "audit",
  escalation: "audit",
  removed: "audit",
};

// Everybody's own, whatever role they have.
const OWN = ["device", "password", "applications", "help"];
// The part of the guide that is about the page one is on.
const HELP: Record<string, string> = {
  clients: "registrar",
  register: "registrar#a-job-that-runs-at-night",
  dossier: "registrar#a-job-that-runs-at-night",
  charter: "registrar#the-same-set-up-in-a-second-directory",
  consent: "approver",
  desk: "approver",
  request: "approver",
  rotation: "custodian",
  audit: "auditor",
  findings: "auditor",
  consents: "auditor#every-consent",
  excess: "auditor",
  escalation: "auditor",
  reviews: "auditor#reviews",
  review: "auditor#reviews",
  removed: "owner#hand-it-over-switch-it-off-remove-it",
  resources: "integrator#guard-an-api",
  people: "steward#people",
  directory: "steward#the-policy",
  device: "integrator#a-device-without-a-page",
};
const route = useRoute();
const router = useRouter();
const field = ref<InstanceType<typeof Find> | null>(null);
const keys = ref(false);
const map = ref<InstanceType<typeof KeyMap> | null>(null);
// Where the window is narrow the rail lies above the page, and its places are opened by a button.
const menu = ref(false);
watch(
  () => route.fullPath,
  () => (menu.value = false),
);

// Reviews stand within the audit for whoever may read that, and by themselves for owners.
const within = computed(() => {
  const name = String(route.name);
  return ["reviews", "review"].includes(name) ? (can("audit.read") ? "audit" : "reviews") : (WITHIN[name] ?? name);
});
const help = computed(() => {
  // While the first page is still fetched, its address says which one it is.
  const part = HELP[String(route.name ?? router.resolve(window.location.pathname).name)];
  return part ? `/help/${part}` : can("clients.list") && !can("today.read") ? "/help/owner" : "/help";
});
const here = (name: string) => within.value === name;

async function leave(): Promise<void> {
  await signOut();
  await router.push({ name: "sign-in" });
}

function onKey(event: KeyboardEvent): void {
  const typing = (event.target as HTMLElement).closest("input, textarea, select, [contenteditable]");
  if (typing || event.ctrlKey || event.metaKey || event.altKey) return;
  if (event.key === "/") {
    event.preventDefault();
    field.value?.focus();
  } else if (event.key === "?") {
    if (map.value) map.value.close();
    else keys.value = true;
  }
}
onMounted(() => window.addEventListener("keydown", onKey));
onBeforeUnmount(() => window.removeEventListener("keydown", onKey));
</script>

<template>
  <div class="frame">
    <a class="skip" lang="en" href="#page">Skip to the page</a>
    <nav class="rail" lang="en" aria-label="Main">
      <Directories />
      <Find ref="field" />
      <button type="button" class="menu" :aria-expanded="menu" aria-controls="places" @click="menu = !menu">Menu</button>
      <ul id="places" :class="{ shut: !menu }">
        <li v-for="place in places" :key="place.page">
          <RouterLink :to="{ name: place.page }" :class="{ on: here(place.page) }" :aria-current="here(place.page) ? 'page' : undefined">
            {{ t(place.name) }}
            <span v-if="place.page === 'reviews' && waiting" class="count"
              >{{ waiting }}<span class="visually-hidden"> to answer</span></span
            >
          </RouterLink>
        </li>
      </ul>
      <div class="foot" :class="{ shut: !menu }">
        <p class="who">
          <strong>{{ current?.person.name }}</strong>
          <span>{{ current?.person.roles.join(", ") || t`no role here` }}</span>
        </p>
        <UndoPanel />
        <button type="button" @click="router.push({ name: 'password' })">
          Your sign-in<template v-if="current?.own_password === false"> <span class="count">choose your own</span></template>
        </button>
        <button type="button" @click="router.push({ name: 'applications' })">Your applications</button>
        <RouterLink :to="help">Help<span class="visually-hidden"> for this page</span></RouterLink>
        <button type="button" @click="keys = true">Keys <kbd>?</kbd></button>
        <button type="button" @click="showNext">{{ t(NEXT[shown]) }}</button>
        <button type="button" @click="toggleTheme">{{ theme === "dark" ? t`Light theme` : t`Dark theme` }}</button>
        <button type="button" @click="leave">
          Sign out<template v-if="current?.others.length"> of {{ current.others.length + 1 }} directories</template>
        </button>
      </div>
    </nav>
    <main id="page" tabindex="-1">
      <NoRole v-if="!hasRole && !OWN.includes(String(route.name))" />
      <slot v-else />
    </main>
    <KeyMap v-if="keys" ref="map" @close="keys = false" />
  </div>
</template>

<style scoped>
.frame {
  display: grid;
  grid-template-columns: 212px minmax(0, 1fr);
  min-height: 100vh;
}
.skip {
  position: absolute;
  left: -999px;
  z-index: 3;
  background: var(--card);
  padding: var(--s2) var(--s3);
}
.skip:focus {
  left: var(--s2);
  top: var(--s2);
}
.rail {
  position: sticky;
  top: 0;
  height: 100vh;
  background: var(--rail);
  color: var(--rail-ink);
  display: flex;
  flex-direction: column;
  gap: var(--s4);
  padding: var(--s4) 0;
  z-index: 5;
}
/* In a low window both parts move within themselves, and neither is squeezed away. */
.rail ul {
  overflow-y: auto;
  min-height: min(272px, 40vh);
}
ul a {
  display: block;
  padding: 7px var(--s4) 7px calc(var(--s4) - 4px);
  color: var(--rail-ink);
  text-decoration: none;
  border-left: 4px solid transparent;
  font-weight: 520;
}
ul a:hover {
  background: var(--rail-on);
}
ul a.on {
  border-left-color: #d59a3a;
  background: var(--rail-on);
  font-weight: 640;
}
.count {
  margin-left: var(--s1);
  padding: 0 6px;
  border: 1px solid #d59a3a;
  border-radius: 9px;
  font-size: 12px;
  font-variant-numeric: tabular-nums;
}
.rail :focus-visible {
  outline-color: #f0b860;
}
.foot {
  margin-top: auto;
  overflow-y: auto;
  padding: 0 var(--s4);
  display: grid;
  gap: 2px;
  justify-items: start;
  font-size: 13px;
}
.who {
  display: grid;
  margin-bottom: var(--s2);
}
.who span {
  color: var(--rail-soft);
}
.foot :deep(button),
.foot a {
  all: unset;
  cursor: pointer;
  color: var(--rail-ink);
  padding: 4px 0;
}
.foot a:hover,
.foot :deep(button):hover {
  text-decoration: underline;
}
.foot a:focus-visible,
.foot :deep(button):focus-visible {
  outline: 2px solid #f0b860;
  outline-offset: 2px;
}
kbd {
  font: 11px var(--mono);
  border: 1px solid var(--rail-soft);
  border-radius: 2px;
  padding: 0 4px;
}
.menu {
  display: none;
}
@media (max-width: 860px) {
  .frame {
    grid-template-columns: minmax(0, 1fr);
    grid-template-rows: auto 1fr;
  }
  .rail {
    position: static;
    height: auto;
    display: grid;
    grid-template-columns: minmax(0, 1fr) auto;
    gap: var(--s2);
    padding: var(--s3) 0;
  }
  .menu {
    display: block;
    font: inherit;
    color: var(--rail-ink);
    background: var(--rail-on);
    border: 1px solid var(--rail-soft);
    border-radius: var(--corner);
    padding: 5px 14px;
    margin-right: var(--s4);
    align-self: center;
  }
  .rail :deep(form) {
    grid-column: 1 / -1;
    grid-row: 2;
  }
  .rail ul,
  .rail .foot {
    grid-column: 1 / -1;
    min-height: 0;
  }
  .rail .shut {
    display: none;
  }
}
@media print {
  .frame {
    display: block;
  }
}
@media (forced-colors: active) {
  ul a {
    border-left-color: Canvas;
  }
  ul a.on {
    border-left-color: Highlight;
    text-decoration: underline;
  }
}
main {
  padding: var(--s5) var(--s6) 64px;
  max-width: 1180px;
  width: 100%;
  outline: none;
}
@media (max-width: 860px) {
  main {
    padding: var(--s4) var(--s4) 48px;
  }
}
@media print {
  main {
    max-width: none;
    padding: 0;
  }
}
</style>
