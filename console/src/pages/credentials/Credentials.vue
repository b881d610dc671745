<script setup lang="ts">
// Credentials as bars on one time axis with today's line, so that overlaps and gaps are seen; then the facts of each.
import { NButton } from "naive-ui";
import { computed, ref } from "vue";
import { type Schemas, api, must } from "@/api/client";
import { directory, useCan } from "@/api/session";
import { useDirectory, useStale } from "@/api/reads/directory";
import Moment from "@/ui/Moment.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import StateWord from "@/ui/StateWord.vue";
import { credentialTone, credentialWord } from "@/ui/use/states";
import { ago, day, now } from "@/ui/use/times";
import OpenDue from "./rotation/OpenDue.vue";
import CredentialUsers from "./CredentialUsers.vue";
import { t } from "@/texts/sentences";

const can = useCan();
type Credential = Schemas["Credential"];
const props = defineProps<{ client: string; name: string; credentials: Credential[] }>();
const sure = ref("");
const error = ref<unknown>(null);
const stale = useStale();

const WIDTH = 140;
const span = computed(() => {
  const from = Math.min(now.value, ...props.credentials.map((one) => Date.parse(one.issued_at)));
  const ends = props.credentials.map((one) => (one.expires_at ? Date.parse(one.expires_at) : now.value));
  const to = Math.max(now.value, ...ends);
  return { from: Math.max(from, to - 2 * 365 * 86_400_000), to: to + (to - from) * 0.05 };
});
const at = (moment: number) => Math.max(0, (WIDTH * (moment - span.value.from)) / (span.value.to - span.value.from || 1));
const bar = (one: Credential) => {
  const start = at(Date.parse(one.issued_at));
  const end = one.withdrawn_at ?? one.expires_at;
  return { x: start, width: Math.max(3, (end ? at(Date.parse(end)) : WIDTH) - start) };
};
const stands = (one: Credential) => one.state !== "withdrawn";
const works = (one: Credential) => !["withdrawn", "expired"].includes(one.state);
const opened = ref("");
const { data: place } = useDirectory();
const rotating = ref<Schemas["Due"] | null>(null);
function rotate(one: Credential): void {
  const overlap = now.value + (place.value?.policy.overlap_days ?? 14) * 86_400_000;
  const until = new Date(one.expires_at ? Math.min(overlap, Date.parse(one.expires_at)) : overlap).toISOString();
  rotating.value = { client_id: props.client, client_name: props.name, credential: one, overlap_ends_at: until };
}
const KINDS: Record<string, string> = {
  secret: t`secret`,
  certificate: t`certificate`,
  keys: t`key set`,
  issuer: t`outside issuer`,
};
const facts = (one: Credential): [string, string][] => [
  [t`Serves`, one.serves.join(", ")],
  ...(one.certificate
    ? ([
        [t`Subject`, one.certificate.subject],
        [t`Issued by`, one.certificate.issued_by],
        [t`Key`, one.certificate.key],
        ["SHA-256", one.certificate.thumbprint],
        ["SHA-1", one.certificate.sha1],
        [t`Serial`, one.certificate.serial],
      ] as [string, string][])
    : []),
  ...(one.issuer
    ? ([
        [t`Issuer`, one.issuer],
        [t`Subject`, one.subject],
      ] as [string, string][])
    : []),
  ...(one.key_ids.length || one.keys_uri
    ? ([[t`Key ids`, one.key_ids.join(", ") || t`published at ${one.keys_uri}`]] as [string, string][])
    : []),
  [t`First used`, one.first_used_at ? ago(one.first_used_at, now.value) : t`never`],
];
const inUse = (one: Credential) => one.last_used_at !== null && now.value - Date.parse(one.last_used_at) < 7 * 86_400_000;

async function change(one: Credential, what: "withdraw" | "disable" | "enable"): Promise<void> {
  error.value = null;
  const params = { path: { directory: directory.value, client: props.client, credential: one.id } };
  try {
    await must(
      what === "withdraw"
        ? api.POST("/api/v1/directories/{directory}/clients/{client}/credentials/{credential}/withdrawal", {
            params,
            body: { reason: "" },
          })
        : api.POST("/api/v1/directories/{directory}/clients/{client}/credentials/{credential}/state", {
            params,
            body: { enabled: what === "enable", reason: "" },
          }),
    );
    sure.value = "";
    opened.value = "";
    await stale();
  } catch (problem) {
    error.value = problem;
  }
}
</script>

<template>
  <OpenDue v-if="rotating" :due="[rotating]" @closed="rotating = null" />
  <p v-if="!credentials.length" class="empty">It has no credential, so it cannot fetch a token.</p>
  <table v-else class="log">
    <thead>
      <tr>
        <th scope="col">Credential</th>
        <th scope="col">State</th>
        <th scope="col">Life <span class="soft">(line: today)</span></th>
        <th scope="col">Ends</th>
        <th scope="col">Added</th>
        <th scope="col">Last used</th>
        <th scope="col"><span class="visually-hidden">Actions</span></th>
      </tr>
    </thead>
    <tbody v-for="one in credentials" :key="one.id">
      <tr>
        <td>
          <button type="button" class="link-button" :aria-expanded="opened === one.id" @click="opened = opened === one.id ? '' : one.id">
            <code>{{ one.hint }}</code>
          </button>
          <div class="soft small">{{ KINDS[one.kind] }}{{ one.label ? `, ${one.label}` : "" }}</div>
        </td>
        <td>
          <StateWord :tone="credentialTone[one.state] ?? 'gone'" :word="credentialWord(one.state)" />
        </td>
        <td>
          <svg
            :width="WIDTH"
            height="18"
            role="img"
            :aria-label="t`from ${day(one.issued_at)} to ${one.expires_at ? day(one.expires_at) : t`no expiry`}`"
          >
            <rect :class="one.state" :x="bar(one).x" y="5" :width="bar(one).width" height="8" rx="1" />
            <path v-if="!one.expires_at && stands(one)" class="endless" :d="`M${WIDTH - 9} 2 l7 7 l-7 7`" />
            <line :x1="at(now)" :x2="at(now)" y1="0" y2="18" />
          </svg>
        </td>
        <td class="nowrap"><Moment :at="one.withdrawn_at ?? one.expires_at" missing="no expiry" /></td>
        <td class="nowrap">
          <Moment :at="one.issued_at" />
          <div class="soft small">by {{ one.issued_by }}</div>
        </td>
        <td class="nowrap"><Moment :at="one.last_used_at" /></td>
        <td class="right">
          <button v-if="stands(one) && can('credentials.withdraw')" type="button" class="link-button" @click="sure = one.id">
            Withdraw
          </button>
        </td>
      </tr>
      <tr v-if="opened === one.id">
        <td colspan="7" class="opened">
          <dl class="facts">
            <template v-for="[fact, value] in facts(one)" :key="fact"
              ><dt>{{ fact }}</dt>
              <dd>
                <code>{{ value }}</code>
              </dd></template
            >
          </dl>
          <CredentialUsers :client="client" :credential="one.id" />
          <div v-if="works(one) && can('rotations.open') && !rotating" class="row">
            <NButton size="small" @click="rotate(one)">Rotate it …</NButton>
            <span class="soft small">Another is put beside it. <RouterLink :to="{ name: 'rotation' }">See all rotations</RouterLink></span>
          </div>
          <div v-if="works(one) && can('credentials.set-state')" class="row">
            <NButton v-if="one.state === 'disabled'" size="small" @click="change(one, 'enable')">Enable it again</NButton>
            <template v-else
              ><NButton size="small" @click="change(one, 'disable')">Disable this credential</NButton>
              <span class="soft small"
                >Until it is enabled again. <strong v-if="inUse(one)">It is in use: whatever uses it stops.</strong></span
              ></template
            >
          </div>
          <ProblemNote v-if="error && sure !== one.id" :error="error" />
        </td>
      </tr>
      <tr v-if="sure === one.id">
        <td colspan="7" class="sure">
          <p>
            Withdraw <code>{{ one.hint }}</code>? It ends at once and for good.
            <strong v-if="inUse(one)">It was used {{ ago(one.last_used_at ?? "", now) }}: whatever uses it stops.</strong>
          </p>
          <div class="row">
            <NButton size="small" @click="sure = ''">Cancel</NButton
            ><NButton size="small" type="error" ghost @click="change(one, 'withdraw')">Withdraw it</NButton>
          </div>
          <ProblemNote v-if="error" :error="error" />
        </td>
      </tr>
    </tbody>
  </table>
</template>

<style scoped>
rect {
  fill: var(--bar-granted);
}
rect.expiring {
  fill: var(--wait);
}
rect.expired {
  fill: var(--broken);
  opacity: 0.65;
}
rect.withdrawn {
  fill: var(--line-strong);
  opacity: 0.6;
}
line {
  stroke: var(--focus);
  stroke-width: 2;
}
.endless {
  fill: none;
  stroke: var(--bar-granted);
  stroke-width: 2;
}
.nowrap {
  white-space: nowrap;
}
.right {
  text-align: right;
}
rect.disabled,
rect.coming {
  fill: none;
  stroke: var(--bar-granted);
}
.link-button code {
  display: inline-block;
  max-width: 210px;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
  vertical-align: bottom;
}
.opened {
  background: var(--sunk);
}
.opened dd {
  overflow-wrap: anywhere;
}
.opened .row {
  margin-top: var(--s2);
  gap: var(--s2);
}
.sure {
  background: var(--broken-bg);
}
.sure .row {
  margin-top: var(--s2);
}
.empty {
  border-top: 2px solid var(--line-strong);
  padding: var(--s4) 0;
}
</style>
