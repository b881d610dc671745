<script setup lang="ts">
// The public key to which credentials for oneself are sealed.
import { NButton } from "naive-ui";
import { ref, watchEffect } from "vue";
import { type Schemas, api, must } from "@/api/client";
import { directory } from "@/api/session";
import { useAttempt } from "@/ui/use/attempt";
import ProblemNote from "@/ui/ProblemNote.vue";

const held = ref<Schemas["OwnRecipientKey"] | null>(null);
const open = ref(false);
const text = ref("");
const { busy, error, attempt } = useAttempt();
const at = () => ({ params: { path: { directory: directory.value } } });

watchEffect(() =>
  attempt(async () => {
    held.value = await must(api.GET("/api/v1/directories/{directory}/recipient-key", at()));
  }),
);
const keep = (key: string) =>
  attempt(async () => {
    held.value = await must(api.PUT("/api/v1/directories/{directory}/recipient-key", { ...at(), body: { key } }));
    open.value = false;
    text.value = "";
  });
</script>

<template>
  <section aria-labelledby="recipient">
    <h3 id="recipient">
      My recipient key
      <span class="soft small">credentials for me can be sealed to it, so that only I can read them (RFC 7516)</span>
    </h3>
    <p v-if="held?.key" class="row">
      <span
        >Sealed to <code>{{ held.key.kid }}</code></span
      >
      <button type="button" class="link-button" @click="open = !open">Change it</button>
      <button type="button" class="link-button" @click="keep('')">Take it away</button>
    </p>
    <p v-else-if="held" class="row">
      <span>I have none: credentials reach me by handover links.</span>
      <button type="button" class="link-button" @click="open = !open">Register one</button>
    </p>
    <form v-if="open" class="stack" @submit.prevent="keep(text)">
      <label class="field"
        >Public key
        <span class="hint">JWK or PEM, EC or RSA; <code>jamb handover key --make FILE</code> makes a pair and registers it</span>
        <textarea v-model="text" class="plain-input mono" rows="4" spellcheck="false" placeholder="-----BEGIN PUBLIC KEY-----"></textarea>
      </label>
      <div class="row">
        <NButton @click="open = false">Cancel</NButton
        ><NButton type="primary" attr-type="submit" :loading="busy" :disabled="busy || !text.trim()">Register the key</NButton>
      </div>
    </form>
    <ProblemNote v-if="error" :error="error" />
  </section>
</template>

<style scoped>
section {
  margin-bottom: var(--s5);
}
form {
  max-width: 640px;
}
.mono {
  font-family: var(--mono);
  font-size: 12px;
}
code {
  overflow-wrap: anywhere;
}
</style>
