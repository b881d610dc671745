<script setup lang="ts">
// Let software register clients by itself (RFC 7591): make a token for it, and see what became of those made before.
import { NButton } from "naive-ui";
import { computed, ref, useId } from "vue";
import { api, must, type Schemas } from "@/api/client";
import { can, directory } from "@/api/session";
import { useInitialAccess } from "@/api/reads/clients";
import { useDirectory, useStale } from "@/api/reads/directory";
import CopyButton from "@/ui/CopyButton.vue";
import Loadable from "@/ui/Loadable.vue";
import Moment from "@/ui/Moment.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import TextField from "@/ui/forms/TextField.vue";
import { useAttempt } from "@/ui/use/attempt";
import { useShownOnce } from "@/ui/use/unsaved";
import { t } from "@/texts/sentences";
import { listed } from "@/texts/listed";

const opened = ref(false);
const { data, error: unread, isLoading, refetch } = useInitialAccess(opened);
const { data: place } = useDirectory();
const { busy, error, attempt } = useAttempt();
const stale = useStale();
const id = useId();
const label = ref("");
const uses = ref(1);
const days = ref(7);
const made = ref<Schemas["InitialAccess"] | null>(null);
useShownOnce(() => (made.value ? t`the token` : null));
const sure = ref("");
const fits = computed(() => label.value.trim() && uses.value >= 1 && uses.value <= 50 && days.value >= 1 && days.value <= 90);

const make = () =>
  attempt(async () => {
    made.value = await must(
      api.POST("/api/v1/directories/{directory}/initial-access-tokens", {
        params: { path: { directory: directory.value } },
        body: { label: label.value, uses: uses.value, days: days.value, owners: [] },
      }),
    );
    label.value = "";
    await stale();
  });
const withdraw = (token: string) =>
  attempt(async () => {
    await must(
      api.POST("/api/v1/directories/{directory}/initial-access-tokens/{token}/withdrawal", {
        params: { path: { directory: directory.value, token } },
      }),
    );
    sure.value = "";
    await stale();
  });
</script>

<template>
  <details class="software" @toggle="opened = ($event.target as HTMLDetailsElement).open">
    <summary>Let software register clients by itself</summary>
    <div class="stack inside">
      <p class="lead">
        Software with an initial access token registers its own clients at <code>{{ place?.issuer }}/register</code> (RFC 7591). Such a
        client only asks: it holds nothing until somebody consents, and you own it.
      </p>
      <div v-if="made" class="stack made" role="status">
        <p>
          “{{ made.label }}” registers {{ made.uses === 1 ? t`one client` : t`up to ${made.uses} clients` }}. The token expires
          <Moment :at="made.expires_at" />. It is shown here once:
        </p>
        <p class="token">
          <code>{{ made.token }}</code> <CopyButton :value="made.token" what="initial access token" />
        </p>
        <div><NButton size="small" @click="made = null">I have kept it</NButton></div>
      </div>
      <form v-else-if="can('initial-access.make')" class="stack form" @submit.prevent="make">
        <TextField v-model="label" label="Label" hint="who is given it, or what for" :longest="60" />
        <div class="row">
          <label :for="`${id}-uses`">Clients</label>
          <input :id="`${id}-uses`" v-model.number="uses" class="plain-input number" type="number" min="1" max="50" required />
          <label :for="`${id}-days`">Lifetime in days</label>
          <input :id="`${id}-days`" v-model.number="days" class="plain-input number" type="number" min="1" max="90" required />
        </div>
        <ProblemNote v-if="error" :error="error" />
        <div><NButton type="primary" attr-type="submit" :loading="busy" :disabled="busy || !fits">Make a token</NButton></div>
      </form>
      <p v-else>To make a token takes the role of a registrar or steward.</p>
      <ProblemNote v-if="made && error" :error="error" />
      <Loadable :loading="isLoading" :error="unread" :ready="!!data" :lines="2" :retry="refetch">
        <p v-if="!data?.length" class="soft">No token was made yet.</p>
        <table v-else class="log">
          <thead>
            <tr>
              <th scope="col">Label</th>
              <th scope="col">State</th>
              <th scope="col">Clients registered</th>
              <th scope="col">Expires</th>
              <th scope="col">Made</th>
              <th scope="col"><span class="visually-hidden">Withdraw</span></th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="one in data" :key="one.id">
              <td class="free">{{ one.label }}</td>
              <td>{{ listed(one.state) }}</td>
              <td>{{ one.used }} of {{ one.uses }}</td>
              <td class="nowrap"><Moment :at="one.expires_at" /></td>
              <td class="nowrap">
                <Moment :at="one.made_at" />
                <div class="soft small">by {{ one.made_by }}</div>
              </td>
              <td class="nowrap">
                <template v-if="one.state === 'open' && can('initial-access.withdraw')">
                  <button v-if="sure !== one.id" type="button" class="link-button" @click="sure = one.id">Withdraw</button>
                  <span v-else class="row">
                    <NButton size="small" @click="sure = ''">Cancel</NButton>
                    <NButton size="small" type="error" :loading="busy" :disabled="busy" @click="withdraw(one.id)">Withdraw it</NButton>
                  </span>
                </template>
              </td>
            </tr>
          </tbody>
        </table>
      </Loadable>
    </div>
  </details>
</template>

<style scoped>
.software {
  border-top: 1px solid var(--line-strong);
  padding: var(--s3) 0;
}
summary {
  cursor: pointer;
}
.inside {
  margin-top: var(--s3);
}
.lead {
  max-width: 720px;
}
.form {
  max-width: 620px;
}
.number {
  width: 80px;
}
.token {
  overflow-wrap: anywhere;
}
.nowrap {
  white-space: nowrap;
}
</style>
