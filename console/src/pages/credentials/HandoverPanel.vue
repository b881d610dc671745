<script setup lang="ts">
// Make a credential that nobody sees before whoever receives it: by a link, or sealed to a key.
import { NButton } from "naive-ui";
import { computed, ref, watchEffect } from "vue";
import { type Schemas, api, must } from "@/api/client";
import { directory } from "@/api/session";
import { useDirectory, useStale } from "@/api/reads/directory";
import { useAttempt } from "@/ui/use/attempt";
import Choose from "@/ui/forms/Choose.vue";
import CopyButton from "@/ui/CopyButton.vue";
import Moment from "@/ui/Moment.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import TextField from "@/ui/forms/TextField.vue";
import { useShownOnce } from "@/ui/use/unsaved";
import { t } from "@/texts/sentences";

const props = defineProps<{ client: string }>();
const emit = defineEmits<{ issued: []; closed: [] }>();
const { data: place } = useDirectory();
const what = ref<"secret" | "made-certificate">("secret");
const days = ref<number | string>("");
const hours = ref<number | string>("");
const passphrase = ref("");
const note = ref("");
const recipients = ref<Schemas["Recipient"][]>([]);
const to = ref<string | null>(null);
const made = ref<Schemas["MadeHandover"] | null>(null);
const sealed = ref<Schemas["SealedCredential"] | null>(null);
useShownOnce(() => (made.value && !made.value.delivered_to?.length ? t`the link` : sealed.value ? t`the sealed credential` : null));
const { busy, error, attempt } = useAttempt();
// Not the id of a recipient: the link travels in the owners' mails.
const OWNERS = "owners";
const choices = computed(() => [
  { value: OWNERS, label: t`The owners, by mail: you never see it` },
  ...recipients.value.map((one) => ({
    value: one.id,
    label: t`${one.name}, sealed to the key ${one.key_id.slice(0, 8)}…`,
  })),
]);
const byLink = computed(() => !to.value || to.value === OWNERS);
const stale = useStale();
const usual = computed(() => (what.value === "secret" ? place.value?.policy.secret_default_days : place.value?.policy.key_default_days));

watchEffect(() =>
  attempt(async () => {
    recipients.value = await must(
      api.GET("/api/v1/directories/{directory}/clients/{client}/recipients", {
        params: { path: { directory: directory.value, client: props.client } },
      }),
    );
  }),
);
async function make(): Promise<void> {
  const credential =
    what.value === "secret" ? { kind: "secret" as const } : { kind: "made-certificate" as const, key_type: "p256" as const };
  const params = { path: { directory: directory.value, client: props.client } };
  const wanted = { credential, label: "", days: days.value === "" ? null : Number(days.value) };
  await attempt(async () => {
    if (to.value && to.value !== OWNERS) {
      sealed.value = await must(
        api.POST("/api/v1/directories/{directory}/clients/{client}/sealings", {
          params,
          body: { ...wanted, recipient: to.value },
        }),
      );
    } else {
      const body = {
        ...wanted,
        note: note.value,
        passphrase: passphrase.value,
        hours: hours.value === "" ? 24 : Number(hours.value),
        deliver: to.value ? ("owners" as const) : ("link" as const),
      };
      made.value = await must(api.POST("/api/v1/directories/{directory}/clients/{client}/handovers", { params, body }));
    }
    passphrase.value = "";
    emit("issued");
  });
}
async function close(): Promise<void> {
  made.value = null;
  sealed.value = null;
  await stale();
  emit("closed");
}
</script>

<template>
  <section v-if="made?.delivered_to?.length" class="shown-once stack" aria-labelledby="mailed">
    <h3 id="mailed">The link is on its way to the owners</h3>
    <p>
      It is in the next mail of {{ made.delivered_to.join(", ") }}, and nobody else has it. Whoever of them opens it sees
      <code>{{ made.credential.hint }}</code>, once.
    </p>
    <div><NButton type="primary" @click="close">Done</NButton></div>
  </section>
  <section v-else-if="made" class="shown-once stack" aria-labelledby="link">
    <h3 id="link">The link, for the only time</h3>
    <p>
      Whoever has it sees <code>{{ made.credential.hint }}</code>, once. It runs out <Moment :at="made.handover.expires_at" />; this page
      tells when it was opened.
    </p>
    <p class="row">
      <code class="link">{{ made.link }}</code> <CopyButton :value="made.link" what="link" />
    </p>
    <p v-if="made.handover.has_passphrase"><strong>Tell the passphrase by another way than the link.</strong></p>
    <div><NButton type="primary" @click="close">Close: the link is gone from here</NButton></div>
  </section>
  <section v-else-if="sealed" class="shown-once stack" aria-labelledby="sealed">
    <h3 id="sealed">Sealed to {{ sealed.recipient.name }}</h3>
    <template v-if="sealed.sealed">
      <p>It may travel by any way: only {{ sealed.recipient.name }} can read it, with <code>jamb handover unseal</code>.</p>
      <pre>{{ sealed.sealed }}</pre>
    </template>
    <p v-else>
      <code>{{ sealed.credential.hint }}</code> is sent there as a signed event, which only the holder of its key can read.
    </p>
    <div class="row">
      <CopyButton v-if="sealed.sealed" :value="sealed.sealed" what="sealed text" /><NButton type="primary" @click="close">Done</NButton>
    </div>
  </section>
  <form v-else class="stack" @submit.prevent="make">
    <label class="field way"
      >To whom? <span v-if="!recipients.length" class="hint">no owner or webhook has registered a key to seal to</span>
      <Choose v-model="to" :options="choices" label="To whom?" placeholder="Whoever has the link, once"
    /></label>
    <fieldset class="row kinds plain">
      <legend>What is handed over?</legend>
      <label><input v-model="what" type="radio" name="what" value="secret" /> A secret</label>
      <label><input v-model="what" type="radio" name="what" value="made-certificate" /> A certificate with its key</label>
    </fieldset>
    <div class="row top">
      <label class="field"
        >Lifetime, days
        <input v-model="days" class="plain-input short" type="number" inputmode="numeric" step="1" :placeholder="String(usual ?? '')"
      /></label>
      <label v-if="byLink" class="field"
        >The link waits, hours
        <input v-model="hours" class="plain-input short" type="number" inputmode="numeric" min="1" max="168" step="1" placeholder="24"
      /></label>
      <label v-if="byLink" class="field"
        >Passphrase <span class="hint">if you like; 8 or more</span
        ><input v-model="passphrase" class="plain-input" type="password" autocomplete="new-password" maxlength="200"
      /></label>
    </div>
    <TextField v-if="byLink" v-model="note" label="A word for whoever opens it" :longest="500" />
    <ProblemNote v-if="error" :error="error" />
    <div>
      <NButton type="primary" attr-type="submit" :loading="busy" :disabled="busy">{{
        to === OWNERS ? t`Make it and mail the link` : to ? t`Make and seal it` : t`Make the link`
      }}</NButton>
    </div>
  </form>
</template>

<style scoped>
.short {
  width: 110px;
}
.top {
  align-items: flex-end;
}
.link {
  overflow-wrap: anywhere;
}
.way {
  max-width: 460px;
}
pre {
  overflow-wrap: anywhere;
  white-space: pre-wrap;
  font-size: 12px;
  max-height: 220px;
  overflow: auto;
  margin: 0;
}
</style>
