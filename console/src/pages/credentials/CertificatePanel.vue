<script setup lang="ts">
// A certificate: uploaded, issued on request, or made here with its key pair, which is shown once.
import { NButton } from "naive-ui";
import { computed, ref } from "vue";
import { type Schemas, api, must } from "@/api/client";
import { directory } from "@/api/session";
import { useDirectory, useStale } from "@/api/reads/directory";
import { useAttempt } from "@/ui/use/attempt";
import CopyButton from "@/ui/CopyButton.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import TextField from "@/ui/forms/TextField.vue";
import MadePair from "./MadePair.vue";
import { useShownOnce } from "@/ui/use/unsaved";
import { t } from "@/texts/sentences";

const props = defineProps<{ client: string; way: "made" | "certificate" | "requested" }>();
const emit = defineEmits<{ issued: []; closed: [] }>();
const { data: place } = useDirectory();
const label = ref("");
const days = ref<number | string>("");
const keyType = ref<"p256" | "rsa3072">("p256");
const text = ref("");
const made = ref<Schemas["MadeCertificate"] | null>(null);
useShownOnce(() => (made.value ? t`the private key` : null));
const issued = ref<Schemas["Credential"] | null>(null);
const kept = ref(false);
const { busy, error, attempt } = useAttempt();
const stale = useStale();
const DO = { made: t`Make the certificate`, certificate: t`Add the certificate`, requested: t`Issue the certificate` };
const authority = computed(() => `${window.location.origin}/d/${directory.value}/authority`);
const name = computed(() => (label.value.trim() || props.client).toLowerCase().replace(/[^a-z0-9]+/g, "-"));

async function read(event: Event): Promise<void> {
  const file = (event.target as HTMLInputElement).files?.[0];
  if (!file) return;
  const bytes = new Uint8Array(await file.arrayBuffer());
  const found = new TextDecoder("latin1").decode(bytes);
  text.value = found.includes("-----BEGIN") ? found : btoa(found);
}
async function add(): Promise<void> {
  const path = { directory: directory.value, client: props.client };
  await attempt(async () => {
    const lives = days.value === "" ? null : Number(days.value);
    if (props.way === "made") {
      const body = { key_type: keyType.value, days: lives, label: label.value };
      made.value = await must(api.POST("/api/v1/directories/{directory}/clients/{client}/certificates", { params: { path }, body }));
      emit("issued");
    } else if (props.way === "requested") {
      const body = { kind: "certificate-request" as const, request: text.value, days: lives, label: label.value };
      issued.value = await must(api.POST("/api/v1/directories/{directory}/clients/{client}/credentials", { params: { path }, body }));
      emit("issued");
    } else {
      const body = { kind: "certificate" as const, certificate: text.value, label: label.value };
      await must(api.POST("/api/v1/directories/{directory}/clients/{client}/credentials", { params: { path }, body }));
      await close();
    }
  });
}
async function close(): Promise<void> {
  made.value = null;
  issued.value = null;
  await stale();
  emit("closed");
}
</script>

<template>
  <section v-if="made" class="shown-once stack" aria-labelledby="pair">
    <h3 id="pair">The key pair, for the only time</h3>
    <p>Jamb keeps the certificate alone. Pass the passphrase on by another way than the file.</p>
    <MadePair :made="made" :name="name" />
    <label class="row"><input v-model="kept" type="checkbox" /> I have the key and its passphrase where they belong</label>
    <div><NButton type="primary" :disabled="!kept" @click="close">Close: the key is gone from here</NButton></div>
  </section>
  <section v-else-if="issued?.certificate" class="shown-once stack" aria-labelledby="issued">
    <h3 id="issued">The certificate</h3>
    <p>
      For the client, beside the private key that it has. It is no secret; the authority above it stands at
      <code>{{ authority }}</code>.
    </p>
    <pre class="mono">{{ issued.certificate.pem }}</pre>
    <div class="row">
      <CopyButton :value="issued.certificate.pem" what="certificate" /><NButton type="primary" @click="close">Done</NButton>
    </div>
  </section>
  <form v-else class="stack" @submit.prevent="add">
    <template v-if="way !== 'certificate'">
      <fieldset v-if="way === 'made'" class="row kinds plain">
        <legend>Key</legend>
        <label><input v-model="keyType" type="radio" name="key" value="p256" /> EC P-256</label>
        <label
          ><input v-model="keyType" type="radio" name="key" value="rsa3072" /> RSA 3072
          <span class="soft small">for programs that know nothing else</span></label
        >
      </fieldset>
      <label class="field"
        >Lifetime, days
        <span class="hint">at most {{ place?.policy.key_longest_days }}; {{ place?.policy.key_default_days }} when left empty</span>
        <input v-model="days" class="plain-input days" type="number" inputmode="numeric" step="1"
      /></label>
    </template>
    <template v-if="way !== 'made'">
      <label class="field"
        >A file
        <span class="hint"
          >{{ way === "requested" ? t`a certificate request (PKCS#10), PEM or DER` : t`PEM, DER or a PKCS#7 bundle` }}; never a private
          key</span
        ><input type="file" :accept="way === 'requested' ? '.csr,.pem,.der,.req' : '.pem,.crt,.cer,.der,.p7b,.p7c'" @change="read"
      /></label>
      <label class="field"
        >or its text
        <textarea
          v-model="text"
          class="plain-input mono"
          rows="5"
          spellcheck="false"
          :placeholder="way === 'requested' ? '-----BEGIN CERTIFICATE REQUEST-----' : '-----BEGIN CERTIFICATE-----'"
        ></textarea>
      </label>
    </template>
    <TextField v-model="label" label="Label" hint="what it is for, if there are several" :longest="80" />
    <ProblemNote v-if="error" :error="error" />
    <div>
      <NButton type="primary" attr-type="submit" :loading="busy" :disabled="busy || (way !== 'made' && !text.trim())">{{
        DO[way]
      }}</NButton>
    </div>
  </form>
</template>

<style scoped>
.days {
  width: 110px;
}
.mono {
  font-family: var(--mono);
  font-size: 12px;
}
pre {
  overflow: auto;
  max-height: 220px;
  margin: 0;
}
</style>
