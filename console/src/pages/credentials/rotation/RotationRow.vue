<script setup lang="ts">
// One rotation as a row, unfolding to its facts and the steps that are possible.
import { NButton } from "naive-ui";
import { computed, ref } from "vue";
import { type Schemas, api, must } from "@/api/client";
import { can, directory } from "@/api/session";
import { useStale } from "@/api/reads/directory";
import { useAttempt } from "@/ui/use/attempt";
import Moment from "@/ui/Moment.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import { ago, full, now } from "@/ui/use/times";
import { t } from "@/texts/sentences";

const props = defineProps<{ one: Schemas["Rotation"] }>();
const open = ref(false);
const sure = ref<"" | "force" | "abandon">("");
const days = ref<number | string>(14);
const reason = ref("");
const { busy, error, attempt } = useAttempt();
const stale = useStale();
const ended = computed(() => props.one.ended_at !== null);
const who = (user: Schemas["User"]) => t`${user.user_agent || t`a program without a name`} at ${user.address || t`an unknown address`}`;
const said = computed(() => {
  const [first] = props.one.users;
  if (first) {
    const [by, when, others] = [who(first), ago(first.last_at, now.value), props.one.users.length - 1];
    return others ? t`${by}, ${when}, and ${others} more` : `${by}, ${when}`;
  }
  if (props.one.used_since) return t`used ${ago(props.one.used_since, now.value)}`;
  return ended.value ? "–" : t`nobody since it was opened`;
});
const path = computed(() => ({ directory: directory.value, client: props.one.client_id, rotation: props.one.id }));

async function step(what: "close" | "force" | "extend" | "abandon"): Promise<void> {
  const params = { path: path.value };
  const base = "/api/v1/directories/{directory}/clients/{client}/rotations/{rotation}" as const;
  await attempt(async () => {
    if (what === "extend") await must(api.POST(`${base}/extension`, { params, body: { days: Number(days.value) } }));
    else if (what === "abandon") await must(api.POST(`${base}/abandonment`, { params, body: { reason: reason.value } }));
    else await must(api.POST(`${base}/closing`, { params, body: { forced: what === "force", reason: reason.value } }));
    sure.value = "";
    await stale();
  });
}
</script>

<template>
  <tbody>
    <tr>
      <td class="free">
        <RouterLink :to="{ name: 'dossier', params: { id: one.client_id }, hash: '#credentials' }">{{ one.client_name }}</RouterLink>
      </td>
      <td>
        <code class="pair">{{ one.old.hint }}</code> → <code class="pair">{{ one.new.hint }}</code>
      </td>
      <td class="free">{{ said }}</td>
      <td class="nowrap">
        <template v-if="ended">{{ one.state === "closed" ? (one.forced ? t`forced` : t`done`) : t`abandoned` }}</template><Moment
          v-else
          :at="one.new.first_used_at"
          missing="not seen yet"
        />
      </td>
      <td class="nowrap"><Moment :at="one.ended_at ?? one.overlap_ends_at" /></td>
      <td class="right nowrap">
        <NButton v-if="one.state === 'quiet' && can('rotations.close')" size="small" type="primary" :loading="busy" @click="step('close')"
          >Withdraw the old one</NButton
        >
        <button
          v-if="!ended"
          type="button"
          class="link-button"
          :aria-expanded="open"
          :aria-label="t`${open ? t`Close` : t`Steps`} for ${one.client_name}`"
          @click="open = !open"
        >
          {{ open ? t`Close` : t`Steps` }}
        </button>
      </td>
    </tr>
    <tr v-if="open || error">
      <td colspan="6" class="opened">
        <dl class="facts">
          <dt>Opened</dt>
          <dd>{{ full(one.opened_at) }} by {{ one.opened_by }}</dd>
          <dt>Old one</dt>
          <dd>last used <Moment :at="one.old.last_used_at" />, expires <Moment :at="one.old.expires_at" missing="never" /></dd>
          <dt>New one</dt>
          <dd>
            first used <Moment :at="one.new.first_used_at" />, expires
            <Moment :at="one.new.expires_at" missing="never" />
          </dd>
          <template v-if="one.quiet_at"
            ><dt>Quiet</dt>
            <dd>{{ ago(one.quiet_at, now) }} if nothing uses the old one</dd></template
          >
          <template v-for="user in one.users" :key="who(user)"
            ><dt>Used by</dt>
            <dd>{{ who(user) }}: {{ user.times }} times, last {{ ago(user.last_at, now) }}</dd></template
          >
        </dl>
        <div v-if="sure" class="sure stack">
          <p v-if="sure === 'force'">
            Withdraw <code>{{ one.old.hint }}</code> though it is not quiet? It cannot be undone.
            <strong v-if="one.used_since"
              >It was used {{ ago(one.used_since, now) }}<template v-if="one.users[0]"> by {{ who(one.users[0]) }}</template
              >: that stops.</strong
            >
          </p>
          <p v-else>
            Withdraw the new <code>{{ one.new.hint }}</code>? The old one stands as before.
            <strong v-if="one.new.last_used_at">The new one was used {{ ago(one.new.last_used_at, now) }}: what uses it stops.</strong>
          </p>
          <label class="field">Why, for the ledger <input v-model="reason" class="plain-input" maxlength="500" /></label>
          <div class="row">
            <NButton size="small" @click="sure = ''">Cancel</NButton
            ><NButton size="small" type="error" ghost :loading="busy" @click="step(sure)">{{
              sure === "force" ? t`Force it` : t`Abandon it`
            }}</NButton>
          </div>
        </div>
        <div v-else class="row steps">
          <template v-if="can('rotations.extend')">
            <label class="row"
              >Extend to
              <input v-model="days" class="plain-input days" type="number" min="1" :aria-label="t`Days from now for ${one.client_name}`" />
              days from now</label
            >
            <NButton size="small" :loading="busy" @click="step('extend')">Extend</NButton>
          </template>
          <NButton v-if="can('rotations.close') && one.state !== 'quiet' && one.new.first_used_at" size="small" @click="sure = 'force'"
            >Force its close …</NButton
          >
          <NButton v-if="can('rotations.abandon')" size="small" @click="sure = 'abandon'">Abandon …</NButton>
        </div>
        <ProblemNote v-if="error" :error="error" />
      </td>
    </tr>
  </tbody>
</template>

<style scoped>
.nowrap {
  white-space: nowrap;
}
.right {
  text-align: right;
}
.right .link-button {
  margin-left: var(--s2);
}
.pair {
  display: inline-block;
  max-width: 150px;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
  vertical-align: bottom;
}
.opened {
  background: var(--sunk);
}
.steps {
  margin-top: var(--s3);
  gap: var(--s3);
  align-items: center;
}
.days {
  width: 76px;
}
.sure {
  background: var(--broken-bg);
  padding: var(--s3);
  margin-top: var(--s2);
}
</style>
