<script setup lang="ts">
// Disable or enable a client, or revoke the tokens it holds: each says what it does before it does it.
import { NButton } from "naive-ui";
import { ref } from "vue";
import { type Schemas, api, must } from "@/api/client";
import { directory, useCan } from "@/api/session";
import { useStale } from "@/api/reads/directory";
import ProblemNote from "@/ui/ProblemNote.vue";
import { clock } from "@/ui/use/times";
import { t } from "@/texts/sentences";

const can = useCan();
const props = defineProps<{ client: Schemas["Client"] }>();
const sure = ref<"" | "disable" | "revoke-tokens">("");
const said = ref("");
// In which state it was said: another one makes it untrue.
const saidOf = ref("");
const error = ref<unknown>(null);
const stale = useStale();
const params = () => ({ path: { directory: directory.value, client: props.client.id } });

async function run(call: () => Promise<string>): Promise<void> {
  error.value = null;
  saidOf.value = "";
  try {
    said.value = await call();
    sure.value = "";
    await stale();
    saidOf.value = props.client.state;
  } catch (problem) {
    error.value = problem;
  }
}
const state = (wanted: "live" | "disabled") =>
  run(async () => {
    await must(
      api.POST("/api/v1/directories/{directory}/clients/{client}/state", {
        params: params(),
        body: { state: wanted, reason: "" },
      }),
    );
    return wanted === "live" ? t`It is live again.` : t`It is disabled, and its tokens are revoked.`;
  });
const revokeTokens = () =>
  run(async () => {
    const done = await must(
      api.POST("/api/v1/directories/{directory}/clients/{client}/token-revocation", {
        params: params(),
        body: { reason: "" },
      }),
    );
    return t`Tokens until ${clock(done.at)} are refused; ${done.live_tokens} of them had not run out.`;
  });
</script>

<template>
  <div class="stack">
    <div v-if="!sure" class="row">
      <button v-if="can('clients.set-state') && client.state === 'live'" type="button" class="link-button small" @click="sure = 'disable'">
        Disable it
      </button>
      <button v-else-if="can('clients.set-state')" type="button" class="link-button small" @click="state('live')">Enable it again</button>
      <button v-if="can('tokens.revoke')" type="button" class="link-button small" @click="sure = 'revoke-tokens'">Revoke its tokens</button>
      <span v-if="said && (!saidOf || saidOf === client.state)" role="status" class="small">{{ said }}</span>
    </div>
    <template v-else>
      <p v-if="sure === 'disable'">
        Disable {{ client.name }}? It gets no tokens, and those it holds are refused within seconds. Nothing is lost: it can be enabled
        again.
      </p>
      <p v-else>Refuse every token that {{ client.name }} holds now? It may fetch new ones at once.</p>
      <div class="row">
        <NButton size="small" @click="sure = ''">Cancel</NButton
        ><NButton size="small" type="error" ghost @click="sure === 'disable' ? state('disabled') : revokeTokens()">{{
          sure === "disable" ? t`Disable it` : t`Revoke them`
        }}</NButton>
      </div>
    </template>
    <ProblemNote v-if="error" :error="error" />
  </div>
</template>
