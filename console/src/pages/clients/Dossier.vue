<script setup lang="ts">
// Everything about one client on one page, with a slim index beside it.
import { NButton } from "naive-ui";
import { computed, provide, ref } from "vue";
import { useRoute, useRouter } from "vue-router";
import { MAY, can as inDirectory } from "@/api/session";
import { useDossier } from "@/api/reads/clients";
import { useSheets } from "@/api/reads/credentials";
import CopyButton from "@/ui/CopyButton.vue";
import ClientLogo from "@/ui/ClientLogo.vue";
import Loadable from "@/ui/Loadable.vue";
import Moment from "@/ui/Moment.vue";
import PageHead from "@/ui/PageHead.vue";
import StateWord from "@/ui/StateWord.vue";
import { confidential, grant, pagesOf } from "@/ui/use/words";
import { mayClose } from "@/ui/use/unsaved";
import AskPanel from "@/pages/consent/AskPanel.vue";
import SaveCharter from "@/pages/charters/SaveCharter.vue";
import ChangePanel from "./ChangePanel.vue";
import OwnersPanel from "./OwnersPanel.vue";
import CredentialPanel from "@/pages/credentials/CredentialPanel.vue";
import SheetPanel from "@/pages/credentials/SheetPanel.vue";
import Attempts from "./Attempts.vue";
import Credentials from "@/pages/credentials/Credentials.vue";
import Handovers from "@/pages/credentials/Handovers.vue";
import Explain from "@/pages/resources/Explain.vue";
import Rightsizing from "@/pages/consent/Rightsizing.vue";
import Findings from "@/pages/audit/Findings.vue";
import History from "./History.vue";
import Ladder from "@/pages/consent/Ladder.vue";
import Reach from "@/pages/resources/Reach.vue";
import Refusals from "@/pages/resources/Refusals.vue";
import Standing from "./Standing.vue";
import { useTitle } from "@/ui/use/title";
import { t } from "@/texts/sentences";
import { listed } from "@/texts/listed";

const route = useRoute();
const router = useRouter();
const id = computed(() => String(route.params.id));
const { data, error, isLoading, refetch } = useDossier(id);
const client = computed(() => data.value?.client);
// What this person may do with this client; whoever owns some may do it with those alone.
const can = (operation: string) => data.value?.may.includes(operation) ?? inDirectory(operation);
provide(MAY, can);
useTitle(t`Client`, () => client.value?.name);
const asking = ref(false);
const owning = ref(false);
const changing = ref(false);
const issuing = ref(false);
const sheet = ref(false);
const add = async () => {
  if (!issuing.value || (await mayClose())) issuing.value = !issuing.value;
};
const { data: sheets } = useSheets(id);
const asked = computed(() =>
  (data.value?.resources ?? []).flatMap((place) =>
    place.rungs.filter((rung) => rung.asked_at).map((rung) => `${place.resource}/${rung.permission}/${rung.kind}`),
  ),
);
const explain = ref<InstanceType<typeof Explain> | null>(null);
function explainCall(resource: string, operation: string, object: string, kind: string): void {
  explain.value?.put(resource, operation, object, kind);
  void router.replace({ hash: "#explain" });
}
const PARTS = [
  ["ladder", t`Ladder`],
  ["rightsize", t`Right-sizing`],
  ["reach", t`Reach`],
  ["credentials", t`Credentials`],
  ["explain", t`Explanation`],
  ["refused", t`Refused calls`],
  ["attempts", t`Token requests`],
  ["findings", t`Findings`],
  ["history", t`History`],
] as const;
const count = (part: string) =>
  part === "findings" ? data.value?.findings.length : part === "credentials" ? data.value?.credentials.length : undefined;
</script>

<template>
  <Loadable page :loading="isLoading" :error="error" :ready="!!data" :lines="16" :retry="refetch">
    <template v-if="data && client">
      <PageHead :title="client.name" :lead="client.purpose">
        <NButton v-if="can('clients.change') && !changing" @click="changing = true">Change it</NButton>
        <NButton v-if="client.ladder.waiting" type="primary" @click="router.push({ name: 'consent', params: { id } })">
          Look at what waits for consent
        </NButton>
      </PageHead>
      <div class="sides">
        <div class="parts">
          <section id="registration" aria-label="Registration" class="card head">
            <dl class="facts">
              <dt>Client id</dt>
              <dd>
                <code>{{ client.id }}</code> <CopyButton :value="client.id" what="client id" />
              </dd>
              <dt>State</dt>
              <dd>
                <StateWord
                  v-if="client.state === 'live' && client.ladder.waiting"
                  tone="wait"
                  :word="t`${client.ladder.waiting} asked, not granted`"
                />
                <StateWord v-else :tone="client.state === 'live' ? 'live' : 'gone'" :word="listed(client.state)" />
              </dd>
              <dt>Kind</dt>
              <dd>
                {{ listed(client.kind) }} <span class="soft small">gets tokens by {{ client.grant_types.map(grant).join(", ") }}</span>
              </dd>
              <dt>Owners</dt>
              <dd>
                <template v-if="client.owners.length">{{
                  client.owners.map((one) => (one.level === "full" ? one.name : `${one.name} (${one.level})`)).join(", ")
                }}</template><StateWord v-else tone="broken" word="nobody" />
                <button
                  v-if="can('owners.change')"
                  type="button"
                  class="link-button small"
                  :aria-expanded="owning"
                  @click="owning = !owning"
                >
                  {{ owning ? t`cancel` : t`change owners` }}
                </button>
              </dd>
              <dt>Registered</dt>
              <dd><Moment :at="client.registered_at" /> by {{ client.registered_by }}</dd>
              <dt>Last use</dt>
              <dd><Moment :at="client.last_used_at" /></dd>
              <template v-if="client.logo"
                ><dt>Logo</dt>
                <dd><ClientLogo :logo="client.logo" /></dd
              ></template>
              <template v-if="client.publisher"
                ><dt>Publisher</dt>
                <dd>{{ client.publisher }}</dd></template
              >
              <template v-if="client.support_contact"
                ><dt>Support contact</dt>
                <dd>{{ client.support_contact }}</dd></template
              >
              <template v-for="[name, address] in pagesOf(client)" :key="name"
                ><dt>{{ name }}</dt>
                <dd>
                  <a :href="address" target="_blank" rel="noopener noreferrer">{{ address }}</a>
                </dd></template
              >
              <template v-if="client.redirect_uris.length"
                ><dt>Redirect URIs</dt>
                <dd class="uris">
                  <code v-for="one in client.redirect_uris" :key="one">{{ one }}</code>
                </dd></template
              >
              <template v-if="client.sign_in_groups.length"
                ><dt>Only people in</dt>
                <dd>{{ client.sign_in_groups.join(", ") }}</dd></template
              >
              <template v-if="client.post_logout_redirect_uris.length"
                ><dt>Post-logout redirect URIs</dt>
                <dd class="uris">
                  <code v-for="one in client.post_logout_redirect_uris" :key="one">{{ one }}</code>
                </dd></template
              >
              <template v-if="client.backchannel_logout_uri"
                ><dt>Back-channel logout URI</dt>
                <dd class="uris">
                  <code>{{ client.backchannel_logout_uri }}</code>
                </dd></template
              >
              <template v-if="client.trial_ends_at"
                ><dt>On trial until</dt>
                <dd><Moment :at="client.trial_ends_at" /></dd
              ></template>
            </dl>
            <div v-if="client.next_steps.length" class="left">
              <h2>Next steps</h2>
              <ol>
                <li v-for="step in client.next_steps" :key="step.kind">{{ step.words }}</li>
              </ol>
            </div>
            <div v-if="changing" class="wide"><ChangePanel :client="client" @done="changing = false" /></div>
            <div v-if="owning" class="wide">
              <OwnersPanel :client="id" :owners="client.owners" @done="owning = false" />
            </div>
            <div class="wide"><Standing :client="client" /></div>
            <div class="wide">
              <div class="row">
                <button type="button" class="link-button" :aria-expanded="sheet" @click="sheet = !sheet">
                  {{ sheet ? t`Hide the connection sheet` : t`Connection sheet` }}
                </button>
                <RouterLink v-if="client.grant_types.includes('authorization_code')" :to="{ name: 'sign-in-steps', params: { id } }"
                  >Try a sign-in, step by step</RouterLink
                >
                <SaveCharter v-if="can('charters.read')" :client="id" />
              </div>
              <SheetPanel v-if="sheet && sheets" :sheets="sheets" />
            </div>
          </section>

          <section id="ladder" aria-labelledby="ladder-title">
            <div class="part-head">
              <h2 id="ladder-title">Ladder <span class="soft small">asked, granted, used</span></h2>
              <NButton v-if="can('asks.add')" size="small" :aria-expanded="asking" @click="asking = !asking">{{
                asking ? t`Cancel` : t`Ask for a permission`
              }}</NButton>
            </div>
            <div v-if="asking" class="card"><AskPanel :client="id" :held="asked" @done="asking = false" /></div>
            <Ladder :client="id" :resources="data.resources" />
          </section>

          <section v-if="can('rightsizing.read')" id="rightsize" aria-labelledby="rightsize-title">
            <h2 id="rightsize-title">Right-sizing <span class="soft small">what it holds as itself, beside what would do</span></h2>
            <Rightsizing :client="id" :resources="data.resources" />
          </section>

          <section id="reach" aria-labelledby="reach-title">
            <h2 id="reach-title">Reach <span class="soft small">what it can and cannot touch, as itself</span></h2>
            <Reach :client="id" :resources="data.resources" />
          </section>

          <section id="credentials" aria-labelledby="credentials-title">
            <div class="part-head">
              <h2 id="credentials-title">Credentials</h2>
              <NButton v-if="can('credentials.issue') && confidential(client.kind)" size="small" :aria-expanded="issuing" @click="add">{{
                issuing ? t`Cancel` : t`Add a credential`
              }}</NButton>
              <span v-else-if="confidential(client.kind)" class="soft small">A custodian or steward issues secrets</span>
            </div>
            <div v-if="issuing" class="card"><CredentialPanel :client="id" @closed="issuing = false" /></div>
            <Credentials :client="id" :name="client.name" :credentials="data.credentials" />
            <Handovers :client="id" />
          </section>

          <section id="explain" aria-labelledby="explain-title">
            <h2 id="explain-title">Explanation <span class="soft small">may it do this, and if not, why</span></h2>
            <Explain
              ref="explain"
              :client="id"
              @ladder="router.replace({ hash: '#ladder' })"
              @ask="((asking = true), router.replace({ hash: '#ladder' }))"
              @issue="((issuing = true), router.replace({ hash: '#credentials' }))"
            />
          </section>

          <section id="refused" aria-labelledby="refused-title">
            <h2 id="refused-title">Refused calls <span class="soft small">at protected APIs</span></h2>
            <Refusals :client="id" @explain="explainCall" />
          </section>

          <section id="attempts" aria-labelledby="attempts-title">
            <h2 id="attempts-title">Token requests</h2>
            <Attempts :client="id" />
          </section>

          <section id="findings" aria-labelledby="findings-title">
            <h2 id="findings-title">Findings</h2>
            <Findings :findings="data.findings" />
          </section>

          <section v-if="inDirectory('ledger.read')" id="history" aria-labelledby="history-title">
            <h2 id="history-title">History <span class="soft small">from the ledger</span></h2>
            <History :client="id" />
          </section>
        </div>
        <nav class="index no-print" aria-label="On this page">
          <a
            v-for="[part, label] in PARTS.filter(
              ([part]) => (part !== 'history' || inDirectory('ledger.read')) && (part !== 'rightsize' || can('rightsizing.read')),
            )"
            :key="part"
            :href="`#${part}`"
            >{{ label }} <span v-if="count(part)" class="soft">{{ count(part) }}</span></a
          >
        </nav>
      </div>
    </template>
  </Loadable>
</template>

<style scoped>
.sides {
  display: grid;
  grid-template-columns: minmax(0, 1fr) 128px;
  gap: var(--s5);
}
.parts {
  display: grid;
  gap: var(--s5);
  min-width: 0;
}
.parts section {
  display: grid;
  grid-template-columns: minmax(0, 1fr);
  gap: var(--s2);
  scroll-margin-top: var(--s4);
  min-width: 0;
}
.head {
  grid-template-columns: 1fr 1fr;
  gap: var(--s4) var(--s6) !important;
}
.head dd {
  display: flex;
  gap: var(--s2);
  align-items: center;
  flex-wrap: wrap;
  column-gap: 0.35em;
}
.head dd.uris {
  display: grid;
  gap: 2px;
  overflow-wrap: anywhere;
}
.left h2 {
  font-size: var(--t-body);
}
.left ol {
  list-style: decimal;
  padding-left: 20px;
  display: grid;
  gap: 2px;
  margin-top: var(--s1);
}
.left {
  border-left: 3px solid var(--wait);
  padding-left: var(--s3);
}
.wide {
  grid-column: 1 / -1;
  display: grid;
  gap: var(--s3);
}
.part-head {
  display: flex;
  justify-content: space-between;
  align-items: center;
  gap: var(--s3);
}
.index {
  position: sticky;
  top: var(--s5);
  align-self: start;
  display: grid;
  gap: 2px;
  font-size: 13px;
  border-left: 1px solid var(--line-strong);
  padding-left: var(--s3);
}
.index a {
  color: var(--ink);
  text-decoration: none;
  padding: 3px 0;
}
.index a:hover {
  text-decoration: underline;
}
</style>
