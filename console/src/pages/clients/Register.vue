<script setup lang="ts">
// One page that grows downward: each answered part folds to a line. The registration is saved after the first part and
// its address carries the client id, so that it can be left and taken up again.
import { NButton } from "naive-ui";
import { computed, nextTick, ref } from "vue";
import { useRoute, useRouter } from "vue-router";
import { api, must, type Schemas } from "@/api/client";
import { can, directory } from "@/api/session";
import { useClients, useDossier, useRegistering } from "@/api/reads/clients";
import { useAttempt } from "@/ui/use/attempt";
import { useDraft } from "@/ui/use/draft";
import { confidential, signsIn } from "@/ui/use/words";
import Moment from "@/ui/Moment.vue";
import PageHead from "@/ui/PageHead.vue";
import PickPeople from "@/ui/forms/PickPeople.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import TextField from "@/ui/forms/TextField.vue";
import AskPanel from "@/pages/consent/AskPanel.vue";
import CredentialPanel from "@/pages/credentials/CredentialPanel.vue";
import { useStale } from "@/api/reads/directory";
import TryIt from "@/pages/resources/TryIt.vue";
import InitialAccess from "./InitialAccess.vue";
import FurtherFields, { furtherOf, saidIn } from "./FurtherFields.vue";
import { useTitle } from "@/ui/use/title";
import { t } from "@/texts/sentences";

const route = useRoute();
const router = useRouter();
const id = computed(() => String(route.params.id ?? ""));
const { data: dossier } = useDossier(id);
const { data: registering } = useRegistering();
const stale = useStale();
const SHOWN = 5;

const name = ref("");
const purpose = ref("");
const owners = ref<string[]>([]);
const kind = ref<Schemas["ClientKind"]>("service");
const further = ref(furtherOf());
const { busy, error, attempt } = useAttempt();
const { restored, done, afresh } = useDraft("register", { name, purpose, owners, kind, further });
const { data: unfinished } = useClients({ q: "", attention: "unfinished", sort: "registered", cursor: "" });
const more = ref(false);
const secretOpen = ref(false);
const secretDone = ref(false);

const client = computed(() => dossier.value?.client);
useTitle(t`Register`, () => client.value?.name);
const asked = computed(() =>
  (dossier.value?.resources ?? []).flatMap((place) =>
    place.rungs.filter((rung) => rung.asked_at).map((rung) => `${place.resource}/${rung.permission}/${rung.kind}`),
  ),
);
const hasSecret = computed(() => (dossier.value?.credentials.length ?? 0) > 0);

async function register(): Promise<void> {
  await attempt(async () => {
    const made = await must(
      api.POST("/api/v1/directories/{directory}/clients", {
        params: { path: { directory: directory.value } },
        body: {
          name: name.value,
          purpose: purpose.value,
          kind: kind.value,
          owners: owners.value,
          ...saidIn(further.value, kind.value),
        },
      }),
    );
    done();
    await stale();
    await router.replace({ name: "register", params: { id: made.id } });
  });
}

const next = ref<HTMLElement | null>(null);
// What was shown once is put away: what comes next has the focus.
async function goOn(): Promise<void> {
  secretOpen.value = false;
  secretDone.value = true;
  await nextTick();
  next.value?.querySelector<HTMLElement>("button")?.focus();
}
</script>

<template>
  <PageHead title="Register a client" lead="What it is, what it must do, how it proves itself">
    <NButton v-if="client" @click="router.push({ name: 'dossier', params: { id } })">To its dossier</NButton>
  </PageHead>
  <ol class="parts">
    <li :class="{ done: client }">
      <h2><span class="number">1</span> What is it?</h2>
      <p v-if="client" class="line">
        <strong>{{ client.name }}</strong>, {{ client.purpose }}. Owners:
        {{ client.owners.map((one) => one.name).join(", ") || t`nobody yet` }}. Client id <code>{{ client.id }}</code>
      </p>
      <form v-else-if="can('clients.register')" class="stack form" @submit.prevent="register">
        <p v-if="restored" role="status" class="restored">
          What you typed before is here again. <button type="button" class="link-button" @click="afresh">Start with empty fields</button>
        </p>
        <TextField v-model="name" label="Name" :longest="80" placeholder="As people here would call it" />
        <TextField v-model="purpose" label="Purpose" :longest="500" placeholder="What it does, in a sentence" />
        <fieldset class="kinds">
          <legend>What runs behind it?</legend>
          <label><input v-model="kind" type="radio" value="service" name="kind" /> a service that acts as itself</label>
          <label><input v-model="kind" type="radio" value="web" name="kind" /> a web server, for whoever signs in there</label>
          <label
            ><input v-model="kind" type="radio" value="browser" name="kind" /> a page that runs in the browser, for whoever signs in</label
          >
          <label
            ><input v-model="kind" type="radio" value="native" name="kind" /> an application on a phone or computer, for whoever signs
            in</label
          >
          <label><input v-model="kind" type="radio" value="device" name="kind" /> a device that shows a code, for whoever types it</label>
        </fieldset>
        <PickPeople v-model="owners" label="Owners" hint="who answers for it" />
        <details :open="signsIn(kind)">
          <summary>
            {{ signsIn(kind) ? t`Where people are sent, who makes it, and who helps its users` : t`Who makes it, and who helps its users` }}
          </summary>
          <div class="stack further">
            <FurtherFields v-model="further" :kind="kind" />
          </div>
        </details>
        <ProblemNote v-if="error" :error="error" />
        <div class="row">
          <NButton type="primary" attr-type="submit" :loading="busy" :disabled="busy || !name.trim() || !purpose.trim()">Register</NButton>
          <span v-if="!owners.length" class="soft small">{{
            can("people.list") ? t`Without an owner the audit will list it.` : t`You become its owner.`
          }}</span>
        </div>
      </form>
      <p v-else-if="registering">
        You may not register clients here. {{ registering.why }} Ask {{ registering.ask.join(" or ") || t`a steward` }}.
      </p>
    </li>
    <li v-if="client" :class="{ done: asked.length && !more }">
      <h2><span class="number">2</span> What must it do?</h2>
      <p v-if="asked.length && !more" class="line">
        Asks for <code>{{ asked.map((one) => one.split("/")[1]).join(", ") }}</code>.
        <button type="button" class="link-button" @click="more = true">Ask for more</button>
      </p>
      <AskPanel v-else :client="id" :held="asked" @done="more = false" />
    </li>
    <li v-if="client && confidential(client.kind) && (asked.length || hasSecret)" :class="{ done: hasSecret && !secretOpen }">
      <h2><span class="number">3</span> How does it prove itself?</h2>
      <p v-if="hasSecret && !secretOpen" class="line">
        With <code>{{ dossier?.credentials[0]?.hint }}</code>.
      </p>
      <CredentialPanel v-else-if="can('credentials.issue')" :client="id" @issued="secretOpen = true" @closed="goOn" />
      <p v-else>Adding a credential takes the role of a custodian or steward. The registration is kept; they find it among the clients.</p>
    </li>
    <li v-if="client && ((hasSecret && !secretOpen) || (!confidential(client.kind) && asked.length))" ref="next">
      <h2>
        <span class="number">{{ confidential(client.kind) ? 4 : 3 }}</span> Next steps
      </h2>
      <ul v-if="client.next_steps.length" class="left">
        <li v-for="step in client.next_steps" :key="step.kind">{{ step.words }}</li>
      </ul>
      <p v-else>Nothing: it can fetch tokens now.</p>
      <div class="row">
        <NButton v-if="client.ladder.waiting" type="primary" @click="router.push({ name: 'consent', params: { id } })"
          >See what consent would make possible</NButton
        >
        <NButton @click="router.push({ name: 'dossier', params: { id } })">To its dossier</NButton>
      </div>
      <TryIt v-if="dossier?.may.includes('probe.run')" :client="id" :resources="dossier.resources" />
    </li>
  </ol>
  <section v-if="!client && unfinished?.items.length" class="unfinished" aria-labelledby="unfinished">
    <h2 id="unfinished">
      Unfinished registrations <span class="soft small">ask for nothing yet, or have nothing to prove themselves by</span>
    </h2>
    <ul>
      <li v-for="one in unfinished.items.slice(0, SHOWN)" :key="one.id">
        <RouterLink :to="{ name: 'register', params: { id: one.id } }">{{ one.name }}</RouterLink>
        <span class="soft small"> registered <Moment :at="one.registered_at" /> by {{ one.registered_by }}</span>
      </li>
    </ul>
    <p v-if="(unfinished.total ?? 0) > SHOWN">
      <RouterLink :to="{ name: 'clients', query: { attention: 'unfinished' } }"
        >All {{ unfinished.total }} unfinished registrations</RouterLink
      >
    </p>
  </section>
  <InitialAccess v-if="!client && can('initial-access.list')" />
</template>

<style scoped>
summary {
  cursor: pointer;
}
.further {
  margin-top: var(--s2);
}
.parts > li {
  border-top: 2px solid var(--ink);
  padding: var(--s4) 0 var(--s5);
  display: grid;
  gap: var(--s3);
}
.parts > li.done {
  border-top: 1px solid var(--line-strong);
  padding: var(--s3) 0;
}
.unfinished {
  margin-bottom: var(--s5);
}
.unfinished ul {
  margin: var(--s2) 0;
}
.restored {
  border-left: 4px solid var(--accent);
  padding-left: var(--s3);
}
.number {
  display: inline-block;
  min-width: 22px;
  color: var(--ink-soft);
  font-weight: 400;
}
.line {
  padding-left: 26px;
}
.form {
  max-width: 620px;
}
.kinds {
  border: 0;
  padding: 0;
  margin: 0;
}
.kinds legend {
  font-weight: 560;
  padding: 0;
}
.kinds label {
  display: flex;
  gap: 5px;
  align-items: center;
  min-height: 24px;
}
.left {
  list-style: disc;
  padding-left: 20px;
}
</style>
