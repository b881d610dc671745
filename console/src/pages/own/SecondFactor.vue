<script setup lang="ts">
// One's own second factor: set up with a device, recovery codes shown once, taken off with a code.
import { NButton, NQrCode } from "naive-ui";
import { onMounted, ref } from "vue";
import { type Schemas, api, must } from "@/api/client";
import { current, refresh } from "@/api/session";
import CopyButton from "@/ui/CopyButton.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import { useAttempt } from "@/ui/use/attempt";
import CodeField from "@/pages/entry/CodeField.vue";
import Passkeys from "./Passkeys.vue";
import { useShownOnce } from "@/ui/use/unsaved";

const held = ref<Schemas["OwnSecondFactor"] | null>(null);
const key = ref<Schemas["SecondFactorKey"] | null>(null);
const codes = ref<string[]>([]);
useShownOnce(() => (codes.value.length ? "the recovery codes" : null));
const code = ref("");
const asking = ref<"" | "codes" | "removal">("");
const { busy, error, attempt } = useAttempt();

const look = async () => {
  held.value = await must(api.GET("/api/v1/session/second-factor"));
};
const begin = () =>
  attempt(async () => {
    key.value = await must(api.POST("/api/v1/session/second-factor"));
  });
const confirm = () =>
  attempt(async () => {
    codes.value = (await must(api.PUT("/api/v1/session/second-factor", { body: { code: code.value } }))).codes;
    key.value = null;
    await changed();
  });
const proven = () =>
  attempt(async () => {
    const body = { code: code.value };
    if (asking.value === "codes") codes.value = (await must(api.POST("/api/v1/session/second-factor/recovery-codes", { body }))).codes;
    else await must(api.POST("/api/v1/session/second-factor/removal", { body }));
    await changed();
  });
async function changed(): Promise<void> {
  code.value = "";
  asking.value = "";
  await look();
  await refresh();
}
function leave(): void {
  asking.value = "";
  code.value = "";
  key.value = null;
  error.value = null;
}
onMounted(() => attempt(look));
</script>

<template>
  <section class="stack factor" aria-labelledby="second-factor">
    <h2 id="second-factor">Second factor</h2>
    <p v-if="current?.factor_due" role="alert">
      Whoever has a role here signs in with {{ held?.passkey_wanted ? "a passkey" : "a second factor" }}. Set one up to go on; if you have
      one, sign out and in again with it.
    </p>
    <template v-if="codes.length">
      <p role="status">
        <strong>Keep these recovery codes</strong> where only you find them. Each signs you in once without your device. They are shown only
        now.
      </p>
      <ol class="codes">
        <li v-for="one in codes" :key="one">
          <code>{{ one }}</code>
        </li>
      </ol>
      <div class="row">
        <CopyButton :value="codes.join('\n')" what="the recovery codes" />
        <NButton @click="codes = []">I have kept them</NButton>
      </div>
    </template>
    <form v-else-if="key" class="stack" @submit.prevent="confirm">
      <p>Scan this with an application that makes codes, or type the key there. Then type the code that it shows.</p>
      <div class="scanned"><NQrCode :value="key.uri" :size="180" :padding="0" color="#000000" background-color="#ffffff" /></div>
      <p>
        Key: <code class="key">{{ key.key }}</code>
      </p>
      <CodeField v-model="code" device />
      <div class="row">
        <NButton @click="leave">Cancel</NButton>
        <NButton type="primary" attr-type="submit" :loading="busy" :disabled="busy || !code">Set it up</NButton>
      </div>
    </form>
    <form v-else-if="asking" class="stack" @submit.prevent="proven">
      <p v-if="asking === 'codes'">The codes that you have now sign you in no more.</p>
      <p v-else>You will sign in with your password alone.</p>
      <CodeField v-model="code" />
      <div class="row">
        <NButton @click="leave">Cancel</NButton>
        <NButton :type="asking === 'codes' ? 'primary' : 'error'" attr-type="submit" :loading="busy" :disabled="busy || !code">{{
          asking === "codes" ? "Make other codes" : "Take it off"
        }}</NButton>
      </div>
    </form>
    <template v-else-if="held?.set_up">
      <p>You sign in with a code of your device. {{ held.recovery_codes }} of 10 recovery codes are left.</p>
      <div class="row">
        <NButton @click="asking = 'codes'">Make other recovery codes</NButton>
        <NButton v-if="!held.wanted" @click="asking = 'removal'">Take it off</NButton>
      </div>
    </template>
    <template v-else-if="held?.passkeys?.length">
      <p>Your passkeys count as your second factor. {{ held.recovery_codes }} of 10 recovery codes are left.</p>
      <div class="row">
        <NButton @click="asking = 'codes'">Make other recovery codes</NButton>
        <NButton :loading="busy" @click="begin">Set up a device that makes codes, too</NButton>
      </div>
    </template>
    <template v-else-if="held">
      <p>With one, whoever learns your password cannot sign in as you: a code of your phone is wanted too.</p>
      <div>
        <NButton type="primary" :loading="busy" @click="begin">Set up a second factor</NButton>
      </div>
    </template>
    <ProblemNote v-if="error" :error="error" />
    <Passkeys v-if="held && !key && !asking" :held="held" class="passkeys" @changed="changed" @codes="(made) => (codes = made)" />
  </section>
</template>

<style scoped>
.factor {
  max-width: 480px;
  margin: var(--s5) 0;
}
.codes {
  columns: 2;
  margin: 0;
  font-size: var(--t-body);
}
/* Dark on white in both themes: cameras read no other. */
.scanned {
  justify-self: start;
  padding: var(--s3);
  background: #ffffff;
  border-radius: var(--corner);
}
.key {
  overflow-wrap: anywhere;
}
</style>
