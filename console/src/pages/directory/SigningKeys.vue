<script setup lang="ts">
// The keys that sign the directory's tokens: which one signs, which comes; another one at once, or one withdrawn.
import { NButton } from "naive-ui";
import { computed, ref } from "vue";
import { type Schemas, api, must } from "@/api/client";
import { can, directory } from "@/api/session";
import { useSigningKeys, useStale } from "@/api/reads/directory";
import Moment from "@/ui/Moment.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import StateWord from "@/ui/StateWord.vue";
import TextField from "@/ui/forms/TextField.vue";
import { useAttempt } from "@/ui/use/attempt";
import type { Tone } from "@/ui/use/states";
import { t } from "@/texts/sentences";

const { data: keys, error } = useSigningKeys();
const stale = useStale();
const { busy, error: failed, attempt } = useAttempt();
// "rotate", or the key that is to be withdrawn.
const sure = ref("");
const reason = ref("");
const algorithm = ref<Schemas["SigningAlgorithm"]>("ES256");
// Each algorithm once, with what its keys sign.
const series = computed(() => new Map((keys.value ?? []).map((one) => [one.algorithm, one.signs])));
const STATES: Record<string, { tone: Tone; word: string }> = {
  coming: { tone: "wait", word: t`signs soon` },
  signs: { tone: "live", word: t`signs` },
  published: { tone: "gone", word: t`signed before` },
  ended: { tone: "gone", word: t`no longer published` },
  withdrawn: { tone: "broken", word: t`withdrawn` },
};
const ask = (what: string) => {
  sure.value = sure.value === what ? "" : what;
  reason.value = "";
  algorithm.value = "ES256";
};
const path = () => ({ directory: directory.value });
const rotate = () =>
  attempt(async () => {
    await must(
      api.POST("/api/v1/directories/{directory}/signing-keys", {
        params: { path: path() },
        body: { algorithm: algorithm.value, reason: reason.value.trim() },
      }),
    );
    sure.value = "";
    await stale();
  });
const withdraw = (key: string) =>
  attempt(async () => {
    await must(
      api.POST("/api/v1/directories/{directory}/signing-keys/{signing_key}/withdrawal", {
        params: { path: { ...path(), signing_key: key } },
        body: { reason: reason.value.trim() },
      }),
    );
    sure.value = "";
    await stale();
  });
</script>

<template>
  <section aria-labelledby="signing-keys">
    <div class="part-head">
      <h2 id="signing-keys">Signing keys <span class="soft small">by which APIs know that a token is of this directory</span></h2>
      <NButton v-if="can('signing-keys.rotate')" size="small" :aria-expanded="sure === 'rotate'" @click="ask('rotate')">{{
        sure === "rotate" ? t`Cancel` : t`Rotate`
      }}</NButton>
    </div>
    <ProblemNote v-if="error" :error="error" />
    <ProblemNote v-if="failed" :error="failed" />
    <form v-if="sure === 'rotate'" class="card stack" @submit.prevent="rotate">
      <p>A new key is published now and signs in a quarter of an hour, when every API has read it. Tokens of before go on.</p>
      <fieldset class="row plain">
        <legend>What it signs</legend>
        <label v-for="[one, words] in series" :key="one"
          ><input v-model="algorithm" type="radio" name="algorithm" :value="one" /> {{ words }} ({{ one }})</label
        >
      </fieldset>
      <TextField v-model="reason" label="Reason" hint="for the ledger; may be empty" :longest="500" />
      <div><NButton type="primary" attr-type="submit" :loading="busy" :disabled="busy">Publish another key</NButton></div>
    </form>
    <table v-if="keys" class="log">
      <thead>
        <tr>
          <th scope="col">Key</th>
          <th scope="col">Signs</th>
          <th scope="col">State</th>
          <th scope="col">Made</th>
          <th scope="col">Signs from</th>
          <th scope="col"><span class="visually-hidden">Actions</span></th>
        </tr>
      </thead>
      <tbody>
        <template v-for="one in keys" :key="one.id">
          <tr>
            <td>
              <code>{{ one.id }}</code>
            </td>
            <td class="nowrap">
              {{ one.signs }} <span class="soft small">{{ one.algorithm }}</span>
            </td>
            <td><StateWord :tone="STATES[one.state]?.tone ?? 'gone'" :word="STATES[one.state]?.word ?? one.state" /></td>
            <td class="nowrap"><Moment :at="one.made_at" /></td>
            <td class="nowrap"><Moment :at="one.signs_from" /></td>
            <td class="nowrap">
              <button
                v-if="can('signing-keys.withdraw') && one.state !== 'withdrawn'"
                type="button"
                class="link-button"
                :aria-expanded="sure === one.id"
                @click="ask(one.id)"
              >
                {{ sure === one.id ? t`Cancel` : t`withdraw` }}
              </button>
            </td>
          </tr>
          <tr v-if="sure === one.id">
            <td colspan="6">
              <form class="stack" @submit.prevent="withdraw(one.id)">
                <p>
                  For a key that somebody else may have. Every token that it signed is refused: by APIs within a minute. Clients fetch new
                  ones; people at the command line sign in again.
                </p>
                <TextField v-model="reason" label="Reason" hint="for the ledger" :longest="500" />
                <div>
                  <NButton type="error" attr-type="submit" :loading="busy" :disabled="busy || !reason.trim()">Withdraw this key</NButton>
                </div>
              </form>
            </td>
          </tr>
        </template>
      </tbody>
    </table>
  </section>
</template>

<style scoped>
section {
  margin: var(--s5) 0;
}
.part-head {
  display: flex;
  justify-content: space-between;
  align-items: flex-end;
  gap: var(--s3);
  margin-bottom: var(--s2);
}
.card {
  margin-bottom: var(--s3);
}
.nowrap {
  white-space: nowrap;
}
</style>
