<script setup lang="ts">
// A mail, not a form: who asks for what and why, what becomes possible, and a no that costs nothing.
import { NButton, NCheckbox } from "naive-ui";
import { computed, ref } from "vue";
import { useRoute, useRouter } from "vue-router";
import { api, must } from "@/api/client";
import { can, current, directory } from "@/api/session";
import { type ConsentTerms, useConsent } from "@/api/reads/consent";
import { useStale } from "@/api/reads/directory";
import { useResources } from "@/api/reads/resources";
import Loadable from "@/ui/Loadable.vue";
import Moment from "@/ui/Moment.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import TextField from "@/ui/forms/TextField.vue";
import { acting, count } from "@/ui/use/words";
import Decide from "./Decide.vue";
import Possible from "./Possible.vue";
import Terms from "./Terms.vue";
import { useTitle } from "@/ui/use/title";
import { t } from "@/texts/sentences";

const route = useRoute();
const router = useRouter();
const id = computed(() => String(route.params.id));
const { data: whole, error, isLoading, refetch } = useConsent(id, null);
useTitle(t`Consent`, () => whole.value?.client_name);
const dropped = ref<string[]>([]);
const terms = ref<ConsentTerms>({ reach: {}, expires_at: null, person: null });
const fit = computed(() => Object.values(terms.value.reach).every((one) => one.kind === "everywhere" || one.collections.length > 0));
const waiting = computed(() => (whole.value?.resources ?? []).flatMap((place) => place.asks));
const chosen = computed(() => waiting.value.filter((ask) => !dropped.value.includes(ask.id)));
const narrowed = computed(() => (dropped.value.length && chosen.value.length ? chosen.value.map((ask) => ask.id) : null));
const settled = computed(() => (fit.value ? terms.value : null));
const { data: shown, error: termsError } = useConsent(id, narrowed, settled);
const mail = computed(() => (chosen.value.length ? shown.value : undefined));
const busy = ref(false);
const failed = ref<unknown>(null);
const stale = useStale();
const newly = computed(() => (mail.value?.resources ?? []).reduce((sum, place) => sum + place.newly.length, 0));
const reasons = computed(() => [...new Set(waiting.value.map((ask) => ask.reason).filter(Boolean))]);
const { data: resources } = useResources();
const where = computed(() => {
  const places = (mail.value?.resources ?? []).filter((place) => place.reach.some((one) => one.kind !== "everywhere"));
  return places.length ? `, ${places.map((place) => place.reach.map((one) => one.words).join(" and ")).join("; ")}` : "";
});
const alone = computed(
  () => !!mail.value?.agreement || (!!mail.value?.two_people && mail.value.asked_by_ids.includes(current.value?.person.id ?? "")),
);

// Asking an approver, for those who may not consent or may not alone.
const asking = ref(false);
const reason = ref("");
const accepted = ref(false);
const answers = ref<Record<string, string[]>>({});
const details = ref<{ name: string; title: string; questions: string[]; terms: string }[]>([]);
async function openRequest(): Promise<void> {
  asking.value = true;
  const names = [...new Set(chosen.value.map((ask) => ask.resource))].filter((name) => resources.value?.some((one) => one.name === name));
  details.value = await Promise.all(
    names.map((name) =>
      must(
        api.GET("/api/v1/directories/{directory}/resources/{name}", {
          params: { path: { directory: directory.value, name } },
        }),
      ),
    ),
  );
  answers.value = Object.fromEntries(details.value.map((one) => [one.name, one.questions.map(() => "")]));
}

const back = () => router.push({ name: "dossier", params: { id: id.value } });
async function send(call: () => Promise<unknown>): Promise<void> {
  busy.value = true;
  failed.value = null;
  try {
    await call();
    await stale();
    await back();
  } catch (problem) {
    failed.value = problem;
    await refetch();
  } finally {
    busy.value = false;
  }
}
const here = () => ({ path: { directory: directory.value, client: id.value } });
const grant = () =>
  send(() =>
    must(
      api.POST("/api/v1/directories/{directory}/clients/{client}/consent", {
        params: here(),
        body: { asks: chosen.value.map((ask) => ask.id), terms: terms.value, reason: "" },
      }),
    ),
  );
const askers = computed(() => [...new Set(waiting.value.map((ask) => ask.asked_by))].join(" and "));
const decline = (reason: string) =>
  send(() =>
    must(
      api.POST("/api/v1/directories/{directory}/clients/{client}/consent/refusal", {
        params: here(),
        body: { asks: chosen.value.map((ask) => ask.id), reason },
      }),
    ),
  );
const request = () =>
  send(() =>
    must(
      api.POST("/api/v1/directories/{directory}/clients/{client}/requests", {
        params: here(),
        body: {
          asks: chosen.value.map((ask) => ask.id),
          reason: reason.value,
          answers: answers.value,
          terms_accepted: accepted.value,
        },
      }),
    ),
  );
</script>

<template>
  <Loadable page :loading="isLoading" :error="error" :ready="!!whole" :lines="10" :retry="refetch">
    <article v-if="whole" class="decision">
      <p class="soft small">
        <RouterLink :to="{ name: 'dossier', params: { id } }">{{ whole.client_name }}</RouterLink> · consent in
        {{ current?.directory_name }}
      </p>
      <template v-if="!waiting.length">
        <h1 tabindex="-1">Nothing to decide for {{ whole.client_name }}</h1>
        <ProblemNote v-if="failed" :error="failed" />
        <p>Everything it asks for is granted, or it asks for nothing.</p>
        <div><NButton type="primary" @click="back">Back to the client</NButton></div>
      </template>
      <template v-else>
        <h1 tabindex="-1">{{ whole.client_name }} asks for {{ count(waiting.length, "permission") }}</h1>
        <p class="lead">
          Its purpose: {{ whole.purpose }}. Asked by {{ askers }}, <Moment :at="waiting[0]?.asked_at" />.
          <template v-if="reasons.length && reasons[0] !== whole.purpose">Reason: {{ reasons.join("; ") }}.</template>
        </p>

        <section aria-labelledby="newly" aria-live="polite">
          <h2 id="newly">What becomes possible</h2>
          <p v-if="!mail">Nothing: no permission is chosen.</p>
          <Possible v-else :preview="mail" />
          <ProblemNote v-if="termsError" :error="termsError" />
        </section>

        <section aria-labelledby="asks">
          <h2 id="asks">What it asks for <span class="soft small">leave out what it does not need, bound the rest</span></h2>
          <ul class="asks">
            <li v-for="ask in waiting" :key="ask.id">
              <NCheckbox
                :checked="!dropped.includes(ask.id)"
                @update:checked="(on: boolean) => (dropped = on ? dropped.filter((one) => one !== ask.id) : [...dropped, ask.id])"
              >
                <code>{{ ask.permission }}</code> at {{ ask.resource }}, {{ acting(ask.kind)
                }}<template v-if="ask.reach.kind !== 'everywhere'">, {{ ask.reach.words }}</template>
              </NCheckbox>
            </li>
          </ul>
          <Terms v-model="terms" :places="whole.resources" />
        </section>

        <ProblemNote v-if="failed" :error="failed" />
        <form v-if="asking" class="stack ask" @submit.prevent="request">
          <h2>Ask an approver</h2>
          <TextField v-model="reason" label="Why it is needed" hint="whoever decides reads this" :longest="500" />
          <template v-for="one in details" :key="one.name">
            <label v-for="(question, at) in one.questions" :key="question" class="field"
              >{{ question }} <span class="hint">{{ one.title }} asks</span>
              <input
                class="plain-input"
                maxlength="500"
                :value="answers[one.name]?.[at]"
                @input="(answers[one.name] ??= [])[at] = ($event.target as HTMLInputElement).value"
              />
            </label>
            <blockquote v-if="one.terms">{{ one.terms }}</blockquote>
          </template>
          <NCheckbox v-if="details.some((one) => one.terms)" v-model:checked="accepted">I accept these terms for the client</NCheckbox>
          <div class="row">
            <NButton @click="asking = false">Cancel</NButton
            ><NButton type="primary" attr-type="submit" :loading="busy" :disabled="!reason.trim() || !chosen.length"
              >Send the request</NButton
            >
          </div>
        </form>
        <footer v-else-if="can('consent.grant') && (mail?.approvers ?? 1) === 1 && !alone" class="decide">
          <Decide
            :asker="askers"
            :grant="
              chosen.length ? t`Grant ${count(chosen.length, 'permission')}: ${count(newly, 'new operation')}${where}` : t`Nothing chosen`
            "
            :busy="busy"
            :blocked="!chosen.length || !fit"
            @decide="(decision, words) => (decision === 'grant' ? grant() : decline(words))"
          />
        </footer>
        <footer v-else class="decide stack">
          <p v-if="mail?.agreement">{{ mail.agreement }}</p>
          <p v-else-if="(mail?.approvers ?? 1) > 1">
            This adds a weight of {{ mail?.weight }}: here <strong>two approvers</strong> must say yes to a request.
          </p>
          <p v-else-if="alone">
            This adds a weight of {{ mail?.weight }}: you asked for it, so <strong>another person</strong> must consent.
          </p>
          <p v-else class="soft">
            Consent takes the role of an approver or steward; you are
            {{ current?.person.roles.join(", ") || t`without a role` }}.
          </p>
          <div class="row">
            <NButton type="primary" size="large" @click="back">Back to the client</NButton>
            <NButton v-if="can('requests.make')" size="large" :disabled="!chosen.length" @click="openRequest">Ask an approver</NButton>
          </div>
        </footer>
      </template>
    </article>
  </Loadable>
</template>

<style scoped>
blockquote {
  margin: 0;
  border-left: 3px solid var(--line-strong);
  padding-left: var(--s3);
  color: var(--ink-soft);
}
.ask {
  border-top: 1px solid var(--line-strong);
  padding-top: var(--s4);
}
</style>
