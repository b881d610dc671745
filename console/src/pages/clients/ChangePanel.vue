<script setup lang="ts">
// Change what a registration says: name, purpose, where it answers, who makes it, and until when it is on trial.
import { NButton } from "naive-ui";
import { ref } from "vue";
import { type Schemas, api, must } from "@/api/client";
import { directory } from "@/api/session";
import { offer } from "@/api/undo";
import { useStale } from "@/api/reads/directory";
import { useAttempt } from "@/ui/use/attempt";
import { useMeanwhile } from "@/ui/use/meanwhile";
import { forPeople } from "@/ui/use/words";
import Meanwhile from "@/ui/forms/Meanwhile.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import TextField from "@/ui/forms/TextField.vue";
import LogoField, { KEEP, logoWords, sentLogo } from "@/ui/forms/LogoField.vue";
import FurtherFields, { furtherOf, saidIn } from "./FurtherFields.vue";
import { t } from "@/texts/sentences";

const props = defineProps<{ client: Schemas["Client"] }>();
const emit = defineEmits<{ done: [] }>();
const name = ref(props.client.name);
const purpose = ref(props.client.purpose);
const further = ref(furtherOf(props.client));
const trial = ref(props.client.trial_ends_at?.slice(0, 10) ?? "");
const logo = ref(KEEP);
const { busy, error, attempt } = useAttempt();
const stale = useStale();
type Client = Schemas["Client"];
const path = { directory: directory.value, client: props.client.id };
const until = (one: Client) => one.trial_ends_at?.slice(0, 10) ?? "";
// What the trial was when the form was filled, or taken from somebody else's change.
const was = ref(until(props.client));
const FURTHER: [keyof ReturnType<typeof furtherOf>, string][] = [
  ["redirects", t`Redirect URIs`],
  ["afterwards", t`Post-logout redirect URIs`],
  ["told", t`Back-channel logout URI`],
  ["groups", t`Only people in`],
  ["publisher", t`Publisher`],
  ["support", t`Support contact`],
  ["home", t`Home page`],
  ["policy", t`Privacy policy`],
  ["terms", t`Terms of use`],
  ["without", t`Grant types switched off`],
];
const { rows, undecided, header, saving, seen } = useMeanwhile<Client>(
  props.client,
  () => [
    { label: t`Name`, read: (one) => one.name, mine: () => name.value, take: (one) => (name.value = one.name) },
    { label: t`Purpose`, read: (one) => one.purpose, mine: () => purpose.value, take: (one) => (purpose.value = one.purpose) },
    ...FURTHER.map(([key, label]) => ({
      label,
      read: (one: Client) => furtherOf(one)[key],
      mine: () => further.value[key],
      take: (one: Client) => void (further.value[key] = furtherOf(one)[key]),
    })),
    { label: t`Logo`, read: (one) => logoWords(one), mine: () => logoWords(props.client, logo.value), take: () => (logo.value = KEEP) },
    { label: t`On trial until`, read: until, mine: () => trial.value, take: (one) => (trial.value = was.value = until(one)) },
  ],
  async () => (await must(api.GET("/api/v1/directories/{directory}/clients/{client}", { params: { path } }))).client,
);
/** What makes the registration say again what it said. */
const saidBefore = (one: Client) => ({
  name: one.name,
  purpose: one.purpose,
  ...saidIn(furtherOf(one), one.kind),
  no_trial: !one.trial_ends_at,
  ...(one.trial_ends_at ? { trial_ends_at: one.trial_ends_at } : {}),
});
const save = () =>
  attempt(async () => {
    const done = await saving(async () => {
      const before = seen.value;
      const { version } = await must(
        api.PUT("/api/v1/directories/{directory}/clients/{client}", {
          params: { path, header: header() },
          body: {
            name: name.value,
            purpose: purpose.value,
            ...saidIn(further.value, props.client.kind),
            ...sentLogo(logo.value),
            no_trial: trial.value === "" && was.value !== "",
            ...(trial.value && trial.value !== was.value ? { trial_ends_at: `${trial.value}T23:59:59Z` } : {}),
          },
        }),
      );
      // A picture that was put in another's place is nowhere any more.
      if (before && logo.value === KEEP)
        offer({
          said: t`You changed what ${before.name} says of itself.`,
          path: `/api/v1/directories/${directory.value}/clients/${before.id}`,
          body: saidBefore(before),
          version,
        });
    });
    if (!done) return;
    await stale();
    emit("done");
  });
</script>

<template>
  <form class="card stack" @submit.prevent="save">
    <TextField v-model="name" label="Name" :longest="80" />
    <TextField v-model="purpose" label="Purpose" hint="what it is for, in a sentence" :longest="500" />
    <FurtherFields v-model="further" :kind="client.kind" />
    <LogoField v-if="forPeople(client.kind)" v-model="logo" :client="client" />
    <label class="field"
      >On trial until <span class="hint">empty: it stays for good</span><input v-model="trial" class="plain-input date" type="date"
    /></label>
    <Meanwhile v-model="rows" />
    <ProblemNote v-if="error" :error="error" />
    <div class="row">
      <NButton @click="emit('done')">Cancel</NButton
      ><NButton type="primary" attr-type="submit" :loading="busy" :disabled="busy || undecided || !name.trim() || !purpose.trim()"
        >Save</NButton
      >
    </div>
  </form>
</template>

<style scoped>
.date {
  width: 180px;
}
</style>
