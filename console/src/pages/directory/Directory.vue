<script setup lang="ts">
// The directory: how the world reaches it, what its policy bounds, and the ledger with its verification.
import { NButton } from "naive-ui";
import { computed, ref } from "vue";
import { useRoute } from "vue-router";
import { type Schemas, api, must } from "@/api/client";
import { changes, sentence } from "@/api/history";
import { can, directory } from "@/api/session";
import { useDirectory, readLedger, useLedger } from "@/api/reads/directory";
import ExportList from "@/ui/ExportList.vue";
import CopyButton from "@/ui/CopyButton.vue";
import Loadable from "@/ui/Loadable.vue";
import PageHead from "@/ui/PageHead.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import { full } from "@/ui/use/times";
import Notices from "./Notices.vue";
import PolicyPanel from "./PolicyPanel.vue";
import ProvidersPanel from "./ProvidersPanel.vue";
import SigningKeys from "./SigningKeys.vue";
import { t } from "@/texts/sentences";

const route = useRoute();
const { data, error, isLoading, refetch } = useDirectory();
const cursor = computed(() => String(route.query.cursor ?? ""));
const { data: ledger, error: ledgerError, isLoading: ledgerLoading, refetch: again } = useLedger(cursor);
const verified = ref<Schemas["Verification"] | null>(null);
const failed = ref<unknown>(null);
const busy = ref(false);
const changing = ref(false);

async function verify(): Promise<void> {
  busy.value = true;
  failed.value = null;
  try {
    verified.value = await must(
      api.GET("/api/v1/directories/{directory}/ledger/verification", {
        params: { path: { directory: directory.value } },
      }),
    );
  } catch (problem) {
    failed.value = problem;
  } finally {
    busy.value = false;
  }
}
</script>

<template>
  <Loadable page :loading="isLoading" :error="error" :ready="!!data" :lines="20" :retry="refetch">
    <template v-if="data">
      <PageHead :title="data.name" :lead="data.domain" />
      <div class="columns">
        <section aria-labelledby="addresses">
          <h2 id="addresses">Addresses</h2>
          <dl class="facts">
            <dt>Issuer</dt>
            <dd>
              <code>{{ data.issuer }}</code> <CopyButton :value="data.issuer" what="issuer" />
            </dd>
            <dt>Token endpoint</dt>
            <dd>
              <code>{{ data.token_endpoint }}</code> <CopyButton :value="data.token_endpoint" what="token endpoint" />
            </dd>
          </dl>
          <p><RouterLink :to="{ name: 'people' }">People, groups and roles</RouterLink> have a page of their own.</p>
        </section>
        <section aria-labelledby="policy">
          <div class="part-head">
            <h2 id="policy">Policy</h2>
            <NButton v-if="can('policy.change') && !changing" size="small" @click="changing = true">Change the policy</NButton>
          </div>
          <PolicyPanel v-if="changing" :policy="data.policy" :version="data.version" @done="changing = false" />
          <dl v-else class="facts">
            <dt>Secret lifetime</dt>
            <dd>{{ data.policy.secret_default_days }} days, at most {{ data.policy.secret_longest_days }}</dd>
            <dt>Key lifetime</dt>
            <dd>{{ data.policy.key_default_days }} days, at most {{ data.policy.key_longest_days }}</dd>
            <dt>Credentials at once</dt>
            <dd>
              {{ data.policy.credentials_at_once }} credentials a client;
              {{
                data.policy.secret_heaviest_weight >= 100000
                  ? t`a secret for any`
                  : t`keys instead of a secret above a weight of ${data.policy.secret_heaviest_weight}`
              }}
            </dd>
            <dt>Rotation</dt>
            <dd>
              overlaps for {{ data.policy.overlap_days }} days; the old one is quiet after {{ data.policy.quiet_days }} unseen;
              {{ data.policy.self_rotation ? t`clients may rotate their own secret` : t`clients may not rotate their own secret` }};
              {{
                data.policy.rotation_opens_days
                  ? t`Jamb opens it ${data.policy.rotation_opens_days} days before expiry and hands the secret to the owners`
                  : t`people open it`
              }}
            </dd>
            <dt>Warn before expiry</dt>
            <dd>{{ data.policy.warn_days }} days</dd>
            <dt>Mail frequency</dt>
            <dd>every {{ data.policy.digest_hours }} hours at most, but for what is urgent</dd>
            <dt>“Never used”</dt>
            <dd>said after {{ data.policy.observation_days }} days of a grant</dd>
            <dt>Usage window</dt>
            <dd>{{ data.policy.use_counts_days }} days, for excess and right-sizing</dd>
            <dt>Dry run</dt>
            <dd>{{ data.policy.dry_run_days }} days</dd>
            <dt>Restore period</dt>
            <dd>{{ data.policy.restore_days }} days</dd>
            <dt>Two people</dt>
            <dd>
              from an added weight of {{ data.policy.two_people_weight }}, two approvers from {{ data.policy.two_approvers_weight }}; what
              one person adds to a client counts together for {{ data.policy.adding_days }} days
            </dd>
            <dt>Request lifetime</dt>
            <dd>{{ data.policy.request_days }} days, then it lapses</dd>
            <dt>Registration</dt>
            <dd>
              {{
                data.policy.registering === "everyone"
                  ? t`registrars and everyone`
                  : data.policy.registering === "groups"
                    ? t`registrars and members of ${data.policy.registering_groups.join(", ")}`
                    : t`registrars alone`
              }}
            </dd>
            <dt>Consent by people</dt>
            <dd>
              {{ data.policy.people_may_consent ? t`where a permission leaves it to them` : t`never: only administrators` }}
            </dd>
            <dt>Inheritance</dt>
            <dd>{{ data.policy.inheritance ? t`without an approver` : t`by an approver’s consent` }}</dd>
            <dt>Second factor</dt>
            <dd>
              {{
                data.policy.passkey
                  ? t`a passkey, wanted of whoever has a role`
                  : data.policy.second_factor
                    ? t`wanted of whoever has a role`
                    : t`for whoever sets one up`
              }}<template v-if="data.policy.confirm_minutes"
                >; shown anew before heavy changes, {{ data.policy.confirm_minutes }} minutes after it</template
              >
            </dd>
            <dt>Access token lifetime</dt>
            <dd>{{ data.policy.access_token_seconds / 60 }} minutes</dd>
            <dt>Signing keys</dt>
            <dd>
              <template v-if="data.policy.rs256_access_tokens">RS256 for access tokens;{{ " " }}</template
              >{{ data.policy.signing_key_days ? t`replaced every ${data.policy.signing_key_days} days` : t`until somebody rotates it` }}
            </dd>
            <dt>Sign-in lifetime</dt>
            <dd>
              {{ data.policy.session_seconds / 3600 }} hours at the console, or until unused for
              {{ data.policy.session_idle_seconds / 3600 }}; {{ data.policy.person_token_seconds / 3600 }} at the command line
            </dd>
          </dl>
        </section>
      </div>
      <ProvidersPanel v-if="can('providers.list')" />
      <SigningKeys v-if="can('signing-keys.list')" />
      <Notices v-if="can('notices.list')" />
      <section aria-labelledby="ledger">
        <div class="part-head">
          <h2 id="ledger">Ledger <span class="soft small">every change, chained by hashes</span></h2>
          <NButton size="small" :loading="busy" @click="verify">Verify the whole chain</NButton>
        </div>
        <p v-if="verified" class="verdict" :class="verified.sound ? 'sound' : 'unsound'" role="status">
          <template v-if="verified.sound"
            >✓ {{ verified.entries }} entries, all in place. Head <code>{{ verified.head.slice(0, 24) }}…</code>{{ " " }}
            <CopyButton :value="verified.head" what="head"
          /></template>
          <template v-else><strong>▲ The ledger was tampered with:</strong> {{ verified.what }}.</template>
        </p>
        <ProblemNote v-if="failed" :error="failed" />
        <Loadable :loading="ledgerLoading" :error="ledgerError" :ready="!!ledger" :retry="again">
          <table class="log">
            <thead>
              <tr>
                <th scope="col" class="num">Entry</th>
                <th scope="col">When</th>
                <th scope="col">Who did what</th>
                <th scope="col">Before and after</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="entry in ledger?.items" :key="entry.sequence">
                <td class="num">{{ entry.sequence }}</td>
                <td class="nowrap small">{{ full(entry.at) }}</td>
                <td class="free">
                  <strong>{{ entry.actor.name }}</strong>{{ " " }}
                  <RouterLink v-if="entry.subject.client" :to="{ name: 'dossier', params: { id: entry.subject.client } }">{{
                    sentence(entry)
                  }}</RouterLink>
                  <template v-else>{{ sentence(entry) }}</template>
                  <div class="soft small">{{ entry.actor.via }}</div>
                </td>
                <td class="small changes">
                  <div v-for="change in changes(entry)" :key="change.name">
                    <span class="soft">{{ change.name }}:</span>{{ " " }} <template v-if="change.before">{{ change.before }} → </template
                    >{{ change.after.length > 140 ? `${change.after.slice(0, 140)}…` : change.after }}
                  </div>
                </td>
              </tr>
            </tbody>
          </table>
          <ExportList name="ledger" what="the whole ledger" :read="readLedger" />
          <nav class="row pager" aria-label="Pages of the ledger">
            <RouterLink v-if="cursor" :to="{ query: {}, hash: '#ledger' }">Newest</RouterLink>
            <RouterLink v-if="ledger?.next" :to="{ query: { cursor: ledger.next }, hash: '#ledger' }">Older</RouterLink>
          </nav>
        </Loadable>
      </section>
    </template>
  </Loadable>
</template>

<style scoped>
.columns {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: var(--s6);
  margin-bottom: var(--s5);
}
section {
  display: grid;
  gap: var(--s2);
  align-content: start;
  min-width: 0;
}
section h2:not(:first-child) {
  margin-top: var(--s3);
}
.part-head {
  display: flex;
  justify-content: space-between;
  align-items: center;
}
dd {
  overflow-wrap: anywhere;
}
.changes {
  overflow-wrap: anywhere;
  max-width: 420px;
}
.nowrap {
  white-space: nowrap;
}
.verdict {
  padding: var(--s2) var(--s3);
  border-left: 4px solid;
}
.sound {
  border-color: var(--live);
  background: var(--live-bg);
}
.unsound {
  border-color: var(--broken);
  background: var(--broken-bg);
}
.pager {
  margin-top: var(--s2);
}
</style>
