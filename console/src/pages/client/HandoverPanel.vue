<script setup lang="ts">
// Make a credential that nobody sees before whoever opens its link.
import { NButton } from "naive-ui";
import { computed, ref } from "vue";
import { type Schemas, api, must } from "@/api/client";
import { directory } from "@/api/session";
import { useDirectory, useStale } from "@/api/use";
import { useAttempt } from "@/ui/attempt";
import CopyButton from "@/ui/CopyButton.vue";
import Moment from "@/ui/Moment.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import TextField from "@/ui/TextField.vue";

const props = defineProps<{ client: string }>();
const emit = defineEmits<{ issued: []; closed: [] }>();
const { data: place } = useDirectory();
const what = ref<"secret" | "made-certificate">("secret");
const days = ref<number | string>("");
const hours = ref<number | string>("");
const passphrase = ref("");
const note = ref("");
const made = ref<Schemas["MadeHandover"] | null>(null);
const { busy, error, attempt } = useAttempt();
const stale = useStale();
const usual = computed(() => (what.value === "secret" ? place.value?.policy.secret_default_days : place.value?.policy.key_default_days));

async function make(): Promise<void> {
  const credential = what.value === "secret" ? { kind: "secret" as const } : { kind: "made-certificate" as const, key_type: "p256" as const };
  await attempt(async () => {
    made.value = await must(
      api.POST("/api/v1/directories/{directory}/clients/{client}/handovers", {
        params: { path: { directory: directory.value, client: props.client } },
        body: {
          credential, label: "", note: note.value, passphrase: passphrase.value,
          days: days.value === "" ? null : Number(days.value), hours: hours.value === "" ? 24 : Number(hours.value),
        },
      }),
    );
    passphrase.value = "";
    emit("issued");
  });
}
async function close(): Promise<void> {
  made.value = null;
  await stale();
  emit("closed");
}
</script>

<template>
  <section v-if="made" class="once stack" aria-labelledby="link">
    <h3 id="link">The link, for the only time</h3>
    <p>Whoever has it sees <code>{{ made.credential.hint }}</code>, once. It runs out <Moment :at="made.handover.expires_at" />; this page tells when it was opened.</p>
    <p class="row"><code class="link">{{ made.link }}</code> <CopyButton :value="made.link" what="link" /></p>
    <p v-if="made.handover.has_passphrase"><strong>Tell the passphrase by another way than the link.</strong></p>
    <div><NButton type="primary" @click="close">Close: the link is gone from here</NButton></div>
  </section>
  <form v-else class="stack" @submit.prevent="make">
    <fieldset class="row kinds">
      <legend>What does the link carry?</legend>
      <label><input v-model="what" type="radio" name="what" value="secret" /> A secret</label>
      <label><input v-model="what" type="radio" name="what" value="made-certificate" /> A certificate with its key</label>
    </fieldset>
    <div class="row top">
      <label class="field">It ends after, days <input v-model="days" class="plain-input short" type="number" inputmode="numeric" step="1" :placeholder="String(usual ?? '')" /></label>
      <label class="field">The link waits, hours <input v-model="hours" class="plain-input short" type="number" inputmode="numeric" min="1" max="168" step="1" placeholder="24" /></label>
      <label class="field">Passphrase <span class="hint">if you like; 8 or more</span><input v-model="passphrase" class="plain-input" type="password" autocomplete="new-password" maxlength="200" /></label>
    </div>
    <TextField v-model="note" label="A word for whoever opens it" :longest="500" />
    <ProblemNote v-if="error" :error="error" />
    <div><NButton type="primary" attr-type="submit" :loading="busy" :disabled="busy">Make the link</NButton></div>
  </form>
</template>

<style scoped>
.once { border: 2px solid var(--wait); background: var(--card); padding: var(--s4) var(--s5); border-radius: var(--corner); }
.short { width: 110px; }
.kinds { border: 0; padding: 0; margin: 0; gap: var(--s4); }
.top { align-items: flex-end; }
.link { overflow-wrap: anywhere; }
</style>
