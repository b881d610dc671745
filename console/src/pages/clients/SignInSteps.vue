<script setup lang="ts">
// A sign-in by code, step by step, as an integrator would do it by hand: every request and every answer is shown.
import { NButton } from "naive-ui";
import { computed, ref, useId, watch } from "vue";
import { useQuery } from "@tanstack/vue-query";
import { useRoute } from "vue-router";
import { api, must } from "@/api/client";
import { answered, begin, redeem, refresh, revoke, userinfo, type Begun, type Exchange, type Metadata } from "@/api/flow";
import { useDossier } from "@/api/reads/clients";
import { directory } from "@/api/session";
import { readToken } from "@/api/token";
import ClaimTable from "@/ui/ClaimTable.vue";
import CopyButton from "@/ui/CopyButton.vue";
import Loadable from "@/ui/Loadable.vue";
import PageHead from "@/ui/PageHead.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import TextField from "@/ui/forms/TextField.vue";
import { useAttempt } from "@/ui/use/attempt";
import { now } from "@/ui/use/times";
import { confidential } from "@/ui/use/words";
import { t } from "@/texts/sentences";
import { listed } from "@/texts/listed";

const route = useRoute();
const id = computed(() => String(route.params.id));
const { data: dossier, error: unread, isLoading, refetch } = useDossier(id);
const { data: words } = useQuery({ queryKey: ["claims"], staleTime: Infinity, queryFn: () => must(api.GET("/api/v1/claims")) });
const { data: metadata } = useQuery({
  queryKey: ["metadata", directory],
  queryFn: async () => (await (await fetch(`/d/${directory.value}/.well-known/openid-configuration`)).json()) as Metadata,
});
const client = computed(() => dossier.value?.client);
const secretly = computed(() => !!client.value && confidential(client.value.kind));
const field = useId();

const redirectUri = ref("");
const resource = ref("");
const scope = ref("openid profile offline_access");
const prompt = ref("");
const begun = ref<Begun | null>(null);
const back = ref("");
const secret = ref("");
const steps = ref<{ title: string; done: Exchange }[]>([]);
const { busy, error, attempt } = useAttempt();

// The first address, and what it asks for at the first resource, stand there already.
watch(
  client,
  (found) => {
    if (!found || redirectUri.value) return;
    redirectUri.value = found.redirect_uris[0] ?? "";
    const place = dossier.value?.resources.find((one) => one.rungs.some((rung) => rung.kind === "delegated"));
    if (!place) return;
    resource.value = place.identifier;
    const names = place.rungs.filter((rung) => rung.kind === "delegated").map((rung) => rung.permission);
    scope.value = ["openid", "profile", "offline_access", ...names].join(" ");
  },
  { immediate: true },
);
const came = computed(() =>
  begun.value && metadata.value && back.value.trim() ? answered(begun.value, metadata.value, back.value) : null,
);
const latest = computed(
  () => [...steps.value].reverse().find((one) => one.done.status === 200 && one.done.answer.access_token)?.done.answer,
);
const refreshable = computed(() => [...steps.value].reverse().find((one) => one.done.answer.refresh_token)?.done.answer.refresh_token);
const readIn = (token: unknown) => (typeof token === "string" ? readToken(token, words.value ?? [], now.value) : null);

const start = () =>
  attempt(async () => {
    steps.value = [];
    back.value = "";
    begun.value = await begin(metadata.value!, {
      clientId: id.value,
      redirectUri: redirectUri.value,
      scope: scope.value.trim(),
      resource: resource.value.trim(),
      prompt: prompt.value,
    });
  });
const step = (title: string, work: () => Promise<Exchange>) =>
  attempt(async () => {
    steps.value.push({ title, done: await work() });
  });
</script>

<template>
  <PageHead
    :title="client ? t`Sign-in of ${client.name}, step by step` : t`Sign-in, step by step`"
    lead="As an integrator would do it by hand: every request and every answer"
  >
    <RouterLink :to="{ name: 'dossier', params: { id } }">To its dossier</RouterLink>
  </PageHead>
  <Loadable :loading="isLoading" :error="unread" :ready="!!client && !!metadata" :lines="5" :retry="refetch">
    <p v-if="client && !client.grant_types.includes('authorization_code')">
      A client of the kind {{ listed(client.kind) }} signs nobody in by a browser.
    </p>
    <p v-else-if="client && !client.redirect_uris.length">It has no redirect URI yet: add one to its registration first.</p>
    <ol v-else-if="client && metadata" class="steps">
      <li>
        <h2>1. Ask</h2>
        <form class="stack form" data-filter @submit.prevent="start">
          <label class="field" :for="`${field}-uri`"
            >Redirect URI
            <select :id="`${field}-uri`" v-model="redirectUri" class="plain-input">
              <option v-for="one in client.redirect_uris" :key="one">{{ one }}</option>
            </select>
          </label>
          <TextField v-model="scope" label="Scope" hint="permissions, and what is told of the person" :longest="500" />
          <TextField v-model="resource" label="Resource" hint="its identifier; a token is for one" :longest="300" />
          <label class="field" :for="`${field}-prompt`"
            >Prompt
            <select :id="`${field}-prompt`" v-model="prompt" class="plain-input">
              <option value="">as usual</option>
              <option value="login">login: the person signs in again</option>
              <option value="consent">consent: the person is asked again</option>
              <option value="none">none: nothing may be asked</option>
            </select>
          </label>
          <div><NButton type="primary" attr-type="submit" :loading="busy" :disabled="busy || !redirectUri">Make the request</NButton></div>
        </form>
        <template v-if="begun">
          <pre class="text" tabindex="0">
GET {{ metadata.authorization_endpoint }}
{{ begun.parameters.map(([name, value]) => `  ${name}=${value}`).join("\n") }}</pre>
          <div class="row">
            <a :href="begun.address" target="_blank" rel="noopener">Open it in a new tab</a>
            <CopyButton :value="begun.address" what="authorization request" />
          </div>
        </template>
      </li>
      <li v-if="begun">
        <h2>2. Come back</h2>
        <label class="field"
          >Address that you were sent back to <span class="hint">from the address bar, whole, even where no page is shown</span
          ><textarea v-model="back" class="plain-input mono" rows="3" spellcheck="false" autocomplete="off" />
        </label>
        <div v-if="came" role="status">
          <p v-for="one in came.wrong" :key="one" class="wrong">✗ {{ one }}</p>
          <p v-if="came.code && !came.wrong.length">Its state and its issuer are those that were expected.</p>
        </div>
      </li>
      <li v-if="came?.code && !came.wrong.length && begun">
        <h2>3. Redeem the code</h2>
        <form class="stack form" data-filter @submit.prevent="step(t`Code`, () => redeem(metadata!, begun!, came!.code, id, secret))">
          <label v-if="secretly" class="field"
            >Client secret <span class="hint">sent to the token endpoint and kept nowhere</span
            ><input v-model="secret" class="plain-input" type="password" autocomplete="off" maxlength="500"
          /></label>
          <div>
            <NButton type="primary" attr-type="submit" :loading="busy" :disabled="busy || (secretly && !secret)">Redeem it</NButton>
          </div>
        </form>
      </li>
      <li v-for="(one, at) in steps" :key="at">
        <h2>{{ one.title }}</h2>
        <pre class="text" tabindex="0">{{ one.done.request }}</pre>
        <p>
          Answer <strong>{{ one.done.status }}</strong>
        </p>
        <pre class="text" tabindex="0">{{ JSON.stringify(one.done.answer, null, 2) }}</pre>
        <template v-for="kind in ['access_token', 'id_token']" :key="kind">
          <details v-if="readIn(one.done.answer[kind])">
            <summary>What the {{ kind.replace("_", " ").replace("id", "ID") }} says</summary>
            <ClaimTable :claims="readIn(one.done.answer[kind])!.claims" :wrong="[]" />
          </details>
        </template>
      </li>
      <li v-if="latest">
        <h2>And then</h2>
        <div class="row">
          <NButton :disabled="busy" @click="step(t`Who it is`, () => userinfo(metadata!, String(latest!.access_token)))"
            >Ask who it is</NButton
          >
          <NButton v-if="refreshable" :disabled="busy" @click="step(t`Refresh`, () => refresh(metadata!, String(refreshable), id, secret))"
            >Refresh</NButton
          >
          <NButton
            :disabled="busy"
            @click="step(t`Give back`, () => revoke(metadata!, String(refreshable ?? latest!.access_token), id, secret))"
            >Give it back</NButton
          >
        </div>
      </li>
    </ol>
    <ProblemNote v-if="error" :error="error" />
  </Loadable>
</template>

<style scoped>
.steps > li {
  border-top: 1px solid var(--line-strong);
  padding: var(--s3) 0;
  display: grid;
  gap: var(--s3);
}
.form {
  max-width: 720px;
}
.text {
  margin: 0;
  padding: var(--s3);
  background: var(--card);
  border: 1px solid var(--line);
  font-family: var(--mono);
  font-size: 12.5px;
  white-space: pre-wrap;
  overflow-wrap: anywhere;
  max-height: 420px;
  overflow-y: auto;
}
.wrong {
  color: var(--broken);
  font-weight: 560;
}
textarea {
  font-size: 12.5px;
}
summary {
  cursor: pointer;
}
</style>
