<script setup lang="ts">
// A charter beside the client of its name here: what differs, what following it would change, and the part of that which
// registers, changes and asks. Who consents, narrows and takes away does it where it is always done.
import { NButton } from "naive-ui";
import { computed, ref } from "vue";
import type { RouteLocationRaw } from "vue-router";
import { type Schemas, api, must } from "@/api/client";
import { can, directory } from "@/api/session";
import { useStale } from "@/api/reads/directory";
import PageHead from "@/ui/PageHead.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import StateWord from "@/ui/StateWord.vue";
import { useAttempt } from "@/ui/use/attempt";
import { acting, count } from "@/ui/use/words";
import { type Charter, factsOf, readCharter } from "./charter-file";
import { t } from "@/texts/sentences";

type Step = Schemas["CharterStep"];
const text = ref("");
const charter = ref<Charter | null>(null);
const found = ref<Schemas["CharterComparison"] | null>(null);
const did = ref<string[]>([]);
const { busy, error, attempt } = useAttempt();
const stale = useStale();
const here = () => ({ directory: directory.value });
const client = computed(() => found.value?.client_id ?? null);

async function compare(): Promise<void> {
  if (!charter.value) return;
  found.value = await must(
    api.POST("/api/v1/directories/{directory}/charters/comparison", { params: { path: here() }, body: charter.value }),
  );
}
const read = () =>
  attempt(async () => {
    found.value = null;
    did.value = [];
    charter.value = readCharter(text.value);
    await compare();
  });
async function choose(event: Event): Promise<void> {
  const field = event.target as HTMLInputElement;
  const file = field.files?.[0];
  if (!file) return;
  text.value = await file.text();
  field.value = "";
  await read();
}

// What is done from here, by what one may.
const MAY: Partial<Record<Step["kind"], string>> = { register: "clients.register", change: "clients.change", ask: "asks.add" };
const mine = computed(() => (found.value?.steps ?? []).filter((one) => can(MAY[one.kind] ?? "nothing")));
const planned = computed(() => {
  const many = (kind: Step["kind"]) => mine.value.filter((one) => one.kind === kind).length;
  const registers = many("register") ? [t`register it`] : [];
  const changes = many("change") ? [t`change ${count(many("change"), "fact")}`] : [];
  const asks = many("ask") ? [t`ask for ${count(many("ask"), "permission")}`] : [];
  return [...registers, ...changes, ...asks].join(", ");
});
const follow = () =>
  attempt(async () => {
    const wanted = charter.value;
    if (!wanted) return;
    try {
      let id = client.value;
      if (!id) {
        const body = { ...factsOf(wanted), name: wanted.name, kind: wanted.kind ?? "service", owners: [] };
        id = (await must(api.POST("/api/v1/directories/{directory}/clients", { params: { path: here() }, body }))).id;
        did.value.push(t`Registered it.`);
      } else if (mine.value.some((one) => one.kind === "change")) {
        const params = { path: { ...here(), client: id } };
        await must(api.PUT("/api/v1/directories/{directory}/clients/{client}", { params, body: { ...factsOf(wanted), no_trial: false } }));
        did.value.push(t`Changed what the registration says.`);
      }
      for (const one of mine.value.filter((step) => step.kind === "ask")) {
        await must(
          api.POST("/api/v1/directories/{directory}/clients/{client}/asks", {
            params: { path: { ...here(), client: id } },
            body: {
              resource: one.resource,
              permissions: [one.permission],
              kind: one.access ?? "application",
              reason: one.reason,
              reach: { kind: one.reach.kind, collections: one.reach.collections },
            },
          }),
        );
        did.value.push(t`Asked for ${one.permission} of ${one.resource}.`);
      }
    } finally {
      // Whatever was done is done: what is left is told anew.
      await compare();
      await stale();
    }
  });

/** Where a step that is not done from here is done. */
function where(step: Step): { to: RouteLocationRaw; words: string } | null {
  if (!client.value) return null;
  const page = (part: string): RouteLocationRaw => ({ name: "dossier", params: { id: client.value ?? "" }, hash: `#${part}` });
  if (step.kind === "consent") return { to: { name: "consent", params: { id: client.value } }, words: t`Look at what waits for consent` };
  if (["reach", "withdraw", "drop"].includes(step.kind)) return { to: page("ladder"), words: t`Open its ladder` };
  return step.kind === "credential" ? { to: page("credentials"), words: t`Open its credentials` } : null;
}
const EFFECTS = [
  ["newly", t`can do, new`],
  ["wider", t`can do at more places`],
  ["narrower", t`can do at fewer places`],
  ["no_longer", t`can do no more`],
] as const;
</script>

<template>
  <PageHead title="Charter" lead="A file that says what a client is to be, beside the client of that name in this directory" />
  <form class="card stack" @submit.prevent="read">
    <label class="field"
      >Charter <span class="hint">TOML, as a client's page or <code>jamb charter write</code> makes it</span>
      <textarea v-model="text" class="plain-input" rows="8" spellcheck="false" maxlength="200000"></textarea>
    </label>
    <div class="row">
      <NButton type="primary" attr-type="submit" :loading="busy" :disabled="busy || !text.trim()">Compare it</NButton>
      <label class="row">or choose a file <input type="file" accept=".toml" @change="choose" /></label>
    </div>
  </form>
  <ProblemNote v-if="error" :error="error" />
  <ul v-if="did.length" role="status">
    <li v-for="one in did" :key="one">{{ one }}</li>
  </ul>
  <section v-if="found" aria-labelledby="found">
    <h2 id="found">
      <RouterLink v-if="client" :to="{ name: 'dossier', params: { id: client } }">{{ found.client_name }}</RouterLink>
      <template v-else>{{ found.client_name }}</template>{{ " " }}
      <span class="soft small">{{ client ? t`is here` : t`is not here yet` }}</span>
    </h2>
    <p v-if="!found.steps.length" role="status"><StateWord tone="live" word="It is as the charter says" /></p>
    <template v-else>
      <table class="log">
        <thead>
          <tr>
            <th scope="col">What differs</th>
            <th scope="col">Here</th>
            <th scope="col">Charter</th>
            <th scope="col"><span class="visually-hidden">How it is done</span></th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="(one, place) in found.steps" :key="place">
            <td class="free">{{ one.what }}</td>
            <td class="free small">{{ one.here || "–" }}</td>
            <td class="free small">{{ one.declared || "–" }}</td>
            <td class="nowrap small">
              <template v-if="mine.includes(one)">with “Follow it”</template>
              <RouterLink v-else-if="where(one)" :to="where(one)?.to ?? ''">{{ where(one)?.words }}</RouterLink>
              <template v-else-if="one.kind === 'kind'">never: register another one</template>
              <template v-else>after it is registered</template>
            </td>
          </tr>
        </tbody>
      </table>
      <div v-if="planned" class="row">
        <NButton type="primary" :loading="busy" :disabled="busy" @click="follow">Follow it: {{ planned }}</NButton>
        <span class="soft small">Nothing is granted or taken away by this.</span>
      </div>
    </template>
    <template v-if="found.effects.length">
      <h3>When it is followed whole</h3>
      <ul v-for="one in found.effects" :key="`${one.resource}/${one.kind}`" class="effects">
        <template v-for="[part, words] in EFFECTS" :key="part">
          <li v-if="one[part].length">
            At <strong>{{ one.resource }}</strong>, {{ acting(one.kind) }}, it {{ words }}: <code>{{ one[part].join(", ") }}</code>
          </li>
        </template>
      </ul>
    </template>
  </section>
</template>

<style scoped>
textarea {
  width: 100%;
  font-family: var(--mono);
  font-size: var(--t-small);
}
section {
  margin-top: var(--s5);
}
.row {
  margin-top: var(--s2);
}
h3 {
  margin-top: var(--s4);
}
.effects {
  margin: 0;
}
.nowrap {
  white-space: nowrap;
}
</style>
