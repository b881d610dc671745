<script setup lang="ts">
// One decision: who asks for what and why, what it makes possible, over how much; narrow, grant or decline. Or for less.
import { NButton } from "naive-ui";
import { computed, ref } from "vue";
import { useRoute, useRouter } from "vue-router";
import { api, must } from "@/api/client";
import { can, current, directory } from "@/api/session";
import { type ConsentTerms, useConsent, useRequest } from "@/api/reads/consent";
import { useStale } from "@/api/reads/directory";
import Loadable from "@/ui/Loadable.vue";
import Moment from "@/ui/Moment.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import StateWord from "@/ui/StateWord.vue";
import { count } from "@/ui/use/words";
import Act from "./Act.vue";
import Decide from "./Decide.vue";
import Less from "./Less.vue";
import Possible from "./Possible.vue";
import Terms from "./Terms.vue";
import { useTitle } from "@/ui/use/title";
import { t } from "@/texts/sentences";
import { listed } from "@/texts/listed";

const route = useRoute();
const router = useRouter();
const id = computed(() => String(route.params.id));
const { data, error, isLoading, refetch } = useRequest(id);
const one = computed(() => data.value?.request);
useTitle(t`Request`, () => one.value?.client_name || one.value?.subject);
const asks = computed(() => (data.value?.preview?.resources ?? []).flatMap((place) => place.asks.map((ask) => ask.id)));
const terms = ref<ConsentTerms>({ reach: {}, expires_at: null, person: null });
const changed = computed(() => Object.keys(terms.value.reach).length > 0 || terms.value.expires_at !== null);
const fit = computed(() => Object.values(terms.value.reach).every((reach) => reach.kind === "everywhere" || reach.collections.length > 0));
const { data: narrowed } = useConsent(() => (changed.value && fit.value ? (one.value?.client_id ?? "") : ""), asks, terms);
const mail = computed(() => (changed.value && narrowed.value ? narrowed.value : data.value?.preview));
const busy = ref(false);
const failed = ref<unknown>(null);
const stale = useStale();
const mine = computed(() => one.value?.requested_by_id === current.value?.person.id);
const asked = computed(() => mail.value?.asked_by_ids.includes(current.value?.person.id ?? "") ?? false);
const saidYes = computed(() => one.value?.approvals.some((approval) => approval.approver_id === current.value?.person.id) ?? false);
const blocked = computed(() => saidYes.value || ((mine.value || asked.value) && (mail.value?.two_people ?? false)));
const newly = computed(() => (mail.value?.resources ?? []).reduce((sum, place) => sum + place.newly.length, 0));

async function send(call: () => Promise<unknown>): Promise<void> {
  busy.value = true;
  failed.value = null;
  try {
    await call();
    await stale();
    await router.push({ name: "desk" });
  } catch (problem) {
    failed.value = problem;
    await refetch();
  } finally {
    busy.value = false;
  }
}
const decide = (decision: "grant" | "decline", words: string) =>
  send(() =>
    must(
      api.POST("/api/v1/directories/{directory}/requests/{request}/decision", {
        params: { path: { directory: directory.value, request: id.value } },
        body: {
          decision,
          words,
          force: false,
          terms: decision === "grant" && changed.value ? terms.value : null,
        },
      }),
    ),
  );
const decideLess = (decision: "grant" | "decline", said: string, force: boolean) =>
  send(() =>
    must(
      api.POST("/api/v1/directories/{directory}/requests/{request}/decision", {
        params: { path: { directory: directory.value, request: id.value } },
        body: { decision, words: said, force },
      }),
    ),
  );
const takeBack = () =>
  send(() =>
    must(
      api.POST("/api/v1/directories/{directory}/clients/{client}/requests/{request}/withdrawal", {
        params: { path: { directory: directory.value, client: one.value?.client_id ?? "", request: id.value } },
      }),
    ),
  );
</script>

<template>
  <Loadable page :loading="isLoading" :error="error" :ready="!!one" :lines="10" :retry="refetch">
    <article v-if="one" class="decision">
      <p class="soft small">
        <RouterLink :to="{ name: 'desk' }">Consent desk</RouterLink>{{ " " }}
        <template v-if="one.client_id">
          ·{{ " " }}<RouterLink :to="{ name: 'dossier', params: { id: one.client_id } }">{{ one.client_name }}</RouterLink></template
        >
      </p>
      <h1 v-if="one.act" tabindex="-1">{{ one.requested_by }} asks about {{ one.subject }}: {{ one.act.toLowerCase() }}</h1>
      <h1 v-else-if="one.rightsizes" tabindex="-1">
        {{ one.requested_by }} asks for less for {{ one.client_name }} at {{ one.rightsizes }}
      </h1>
      <h1 v-else tabindex="-1">
        {{ one.requested_by }} asks for {{ one.client_name }}:
        <code>{{ one.asks.map((ask) => ask.split(" ")[1]).join(", ") }}</code>
      </h1>
      <p class="lead">
        <template v-if="!one.act">“{{ one.reason }}”{{ /[.!?…]$/.test(one.reason) ? " " : ". " }}</template
        ><template v-if="one.client_id">{{ one.client_name }}: {{ one.purpose }}. </template> Asked
        <Moment :at="one.requested_at" /><template v-if="one.state === 'waiting'">, lapses <Moment :at="one.due_at" /></template>.
      </p>
      <dl v-if="one.answers.length" class="facts">
        <template v-for="answer in one.answers" :key="answer.question"
          ><dt>{{ answer.question }}</dt>
          <dd>{{ answer.answer }}</dd></template
        >
      </dl>
      <p v-for="approval in one.approvals" :key="approval.approver">
        <StateWord tone="live" :word="t`${approval.approver} said yes`" /> <Moment :at="approval.at" /><template v-if="approval.said"
          >: “{{ approval.said }}”</template
        >
      </p>
      <p v-if="one.state !== 'waiting'" class="ended">
        <StateWord :tone="one.state === 'granted' ? 'live' : one.state === 'declined' ? 'broken' : 'gone'" :word="listed(one.state)" />
        <template v-if="one.decided_by"> by {{ one.decided_by }}, <Moment :at="one.decided_at" /></template
        ><template v-if="one.said">: “{{ one.said }}”</template>
      </p>

      <Act
        v-if="one.act && data"
        :one="one"
        :dossier="data"
        :mine="mine"
        :said-yes="saidYes"
        :busy="busy"
        :failed="failed"
        @decide="(decision, said) => decideLess(decision, said, false)"
        @take-back="takeBack"
      />
      <Less
        v-else-if="data?.rightsized"
        :rightsized="data.rightsized"
        :mine="mine"
        :asker="one.requested_by"
        :busy="busy"
        :failed="failed"
        @decide="decideLess"
        @take-back="takeBack"
      />
      <template v-else-if="mail">
        <section aria-labelledby="newly" aria-live="polite">
          <h2 id="newly">What becomes possible</h2>
          <Possible :preview="mail" />
        </section>
        <section v-if="can('requests.decide') && !one.agreed" aria-labelledby="bounds">
          <h2 id="bounds">Bounds <span class="soft small">narrower than asked, never wider</span></h2>
          <Terms v-model="terms" :places="data?.preview?.resources ?? []" />
        </section>
        <p v-else-if="one.agreed" class="soft">The first approver said yes to these terms; the second says yes to the same, or declines.</p>
        <ProblemNote v-if="failed" :error="failed" />
        <footer v-if="can('requests.decide')" class="decide stack">
          <p v-if="saidYes"><strong>You said yes already.</strong> Another approver must decide.</p>
          <p v-else-if="mail.agreement">{{ mail.agreement }}</p>
          <p v-else-if="blocked">
            You asked for this yourself, and it weighs {{ mail.weight }}: <strong>another person</strong> must decide.
          </p>
          <p v-else-if="one.could?.length" class="soft">Who can decide it: {{ one.could.join(", ") }}.</p>
          <Decide
            :asker="one.requested_by"
            :grant="
              one.approvers > 1 && !one.approvals.length
                ? t`Say the first of two yeses`
                : t`Grant ${count(one.asks.length, 'permission')}: ${count(newly, 'new operation')}`
            "
            :busy="busy"
            :blocked="blocked || !fit"
            :takes-back="mine && can('requests.withdraw')"
            @decide="decide"
            @take-back="takeBack"
          />
        </footer>
        <footer v-else class="decide row">
          <p class="soft">
            {{ count(one.approvers, "approver") }} must say yes. An approver or steward decides; {{ one.requested_by }} reads how it ended
            here and on Today.
          </p>
          <NButton v-if="mine && can('requests.withdraw')" size="small" @click="takeBack">Take it back</NButton>
        </footer>
      </template>
    </article>
  </Loadable>
</template>

<style scoped>
h1 code {
  font-size: 0.8em;
}
</style>
