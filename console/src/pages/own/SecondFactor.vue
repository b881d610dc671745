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
import { say } from "@/texts";
import Said from "@/texts/Said";

const held = ref<Schemas["OwnSecondFactor"] | null>(null);
const key = ref<Schemas["SecondFactorKey"] | null>(null);
const codes = ref<string[]>([]);
useShownOnce(() => (codes.value.length ? say("factor.the_codes") : null));
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
    <h2 id="second-factor">{{ say("factor.title") }}</h2>
    <p v-if="current?.factor_due" role="alert">{{ say(held?.passkey_wanted ? "factor.due_passkey" : "factor.due") }}</p>
    <template v-if="codes.length">
      <Said text="factor.keep" tag="p" role="status">
        <template #keep
          ><strong>{{ say("factor.keep_these") }}</strong></template
        >
      </Said>
      <ol class="codes">
        <li v-for="one in codes" :key="one">
          <code>{{ one }}</code>
        </li>
      </ol>
      <div class="row">
        <CopyButton :value="codes.join('\n')" :what="say('factor.the_codes')" />
        <NButton @click="codes = []">{{ say("factor.kept") }}</NButton>
      </div>
    </template>
    <form v-else-if="key" class="stack" @submit.prevent="confirm">
      <p>{{ say("factor.scan") }}</p>
      <div class="scanned"><NQrCode :value="key.uri" :size="180" :padding="0" color="#000000" background-color="#ffffff" /></div>
      <Said text="factor.key" tag="p">
        <template #key
          ><code class="key">{{ key.key }}</code></template
        >
      </Said>
      <CodeField v-model="code" device />
      <div class="row">
        <NButton @click="leave">{{ say("all.cancel") }}</NButton>
        <NButton type="primary" attr-type="submit" :loading="busy" :disabled="busy || !code">{{ say("factor.set_up") }}</NButton>
      </div>
    </form>
    <form v-else-if="asking" class="stack" @submit.prevent="proven">
      <p>{{ say(asking === "codes" ? "factor.other_codes" : "factor.alone") }}</p>
      <CodeField v-model="code" />
      <div class="row">
        <NButton @click="leave">{{ say("all.cancel") }}</NButton>
        <NButton :type="asking === 'codes' ? 'primary' : 'error'" attr-type="submit" :loading="busy" :disabled="busy || !code">{{
          say(asking === "codes" ? "factor.make" : "factor.take_off")
        }}</NButton>
      </div>
    </form>
    <template v-else-if="held?.set_up">
      <p>{{ say("factor.left", { count: held.recovery_codes }) }}</p>
      <div class="row">
        <NButton @click="asking = 'codes'">{{ say("factor.make_recovery") }}</NButton>
        <NButton v-if="!held.wanted" @click="asking = 'removal'">{{ say("factor.take_off") }}</NButton>
      </div>
    </template>
    <template v-else-if="held?.passkeys?.length">
      <p>{{ say("factor.passkeys_count", { count: held.recovery_codes }) }}</p>
      <div class="row">
        <NButton @click="asking = 'codes'">{{ say("factor.make_recovery") }}</NButton>
        <NButton :loading="busy" @click="begin">{{ say("factor.device_too") }}</NButton>
      </div>
    </template>
    <template v-else-if="held">
      <p>{{ say("factor.why") }}</p>
      <div>
        <NButton type="primary" :loading="busy" @click="begin">{{ say("factor.begin") }}</NButton>
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
