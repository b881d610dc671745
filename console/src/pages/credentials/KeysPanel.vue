<script setup lang="ts">
// Keys of the client's own, or an outside issuer that says who it is.
import { NButton } from "naive-ui";
import { computed, ref } from "vue";
import { api, must } from "@/api/client";
import { directory } from "@/api/session";
import { useDirectory, useStale } from "@/api/reads/directory";
import { useAttempt } from "@/ui/use/attempt";
import ProblemNote from "@/ui/ProblemNote.vue";
import TextField from "@/ui/forms/TextField.vue";
import { t } from "@/texts/sentences";

const props = defineProps<{ client: string; outside: boolean }>();
const emit = defineEmits<{ closed: [] }>();
const { data: place } = useDirectory();
const issuer = ref("");
const subject = ref("");
const where = ref<"metadata" | "address" | "text">(props.outside ? "metadata" : "text");
const address = ref("");
const text = ref("");
const label = ref("");
const days = ref<number | string>("");
const broken = ref("");
const { busy, error, attempt } = useAttempt();
const stale = useStale();
const ready = computed(
  () =>
    (!props.outside || (issuer.value.trim() && subject.value.trim())) &&
    (where.value === "metadata" || (where.value === "address" ? address.value.trim() : text.value.trim())),
);

async function add(): Promise<void> {
  broken.value = "";
  let keys: Record<string, unknown> | null = null;
  if (where.value === "text") {
    try {
      keys = JSON.parse(text.value) as Record<string, unknown>;
    } catch {
      broken.value = t`The keys cannot be read: they are not JSON.`;
      return;
    }
  }
  const rest = {
    keys,
    keys_uri: where.value === "address" ? address.value.trim() : "",
    days: days.value === "" ? null : Number(days.value),
    label: label.value,
  };
  const body = props.outside
    ? { kind: "issuer" as const, issuer: issuer.value.trim(), subject: subject.value.trim(), ...rest }
    : { kind: "keys" as const, ...rest };
  await attempt(async () => {
    await must(
      api.POST("/api/v1/directories/{directory}/clients/{client}/credentials", {
        params: { path: { directory: directory.value, client: props.client } },
        body,
      }),
    );
    await stale();
    emit("closed");
  });
}
</script>

<template>
  <form class="stack" @submit.prevent="add">
    <template v-if="outside">
      <TextField
        v-model="issuer"
        label="Issuer"
        hint="as its assertions name it (iss)"
        placeholder="https://builds.example"
        :longest="500"
      />
      <TextField v-model="subject" label="Subject" hint="that stands for this client, to the mail (sub)" :longest="500" />
    </template>
    <fieldset class="row kinds plain">
      <legend>{{ outside ? t`Its keys` : t`The keys` }}</legend>
      <label v-if="outside"><input v-model="where" type="radio" name="where" value="metadata" /> found by its metadata</label>
      <label><input v-model="where" type="radio" name="where" value="address" /> published at an address</label>
      <label><input v-model="where" type="radio" name="where" value="text" /> given here</label>
    </fieldset>
    <TextField
      v-if="where === 'address'"
      v-model="address"
      label="Address of the keys"
      hint="https; read again when a key is not known"
      :longest="500"
    />
    <label v-if="where === 'text'" class="field"
      >JWK Set <span class="hint">public keys alone (RFC 7517)</span>
      <textarea v-model="text" class="plain-input mono" rows="6" spellcheck="false" placeholder='{"keys": [{"kty": "EC", …}]}'></textarea>
    </label>
    <label class="field"
      >Lifetime, days
      <span class="hint">at most {{ place?.policy.key_longest_days }}; {{ place?.policy.key_default_days }} when left empty</span>
      <input v-model="days" class="plain-input days" type="number" inputmode="numeric" step="1"
    /></label>
    <TextField v-model="label" label="Label" hint="what it is for, if there are several" :longest="80" />
    <p v-if="broken" class="problem" role="alert">{{ broken }}</p>
    <ProblemNote v-if="error" :error="error" />
    <div>
      <NButton type="primary" attr-type="submit" :loading="busy" :disabled="busy || !ready">{{
        outside ? t`Trust the issuer` : t`Add the keys`
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
</style>
