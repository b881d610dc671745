<script setup lang="ts">
// An outside OpenID provider by which people sign in: name one, or change it. Its issuer stays: by another, subjects mean
// other people.
import { NButton } from "naive-ui";
import { ref, useId } from "vue";
import { type Schemas, api, must } from "@/api/client";
import { directory } from "@/api/session";
import { readProviders, useGroups, useStale } from "@/api/reads/directory";
import CopyButton from "@/ui/CopyButton.vue";
import Meanwhile from "@/ui/forms/Meanwhile.vue";
import TextField from "@/ui/forms/TextField.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import { useAttempt } from "@/ui/use/attempt";
import { useMeanwhile } from "@/ui/use/meanwhile";
import { t } from "@/texts/sentences";

type Provider = Schemas["SignInProvider"];
const props = defineProps<{ provider?: Provider; backTo: string }>();
const emit = defineEmits<{ done: [] }>();
const { data: groups } = useGroups();
const { busy, error, attempt } = useAttempt();
const stale = useStale();
const id = useId();

const rowsOf = (one: Pick<Provider, "groups">): [string, string][] => [...Object.entries(one.groups), ["", ""]];
const empty = { name: "", title: "", issuer: "", client_id: "", adds_people: false, groups_claim: "groups", groups: {} };
const { name, title, issuer, client_id, adds_people, groups_claim } = props.provider ?? empty;
const draft = ref({ name, title, issuer, client_id, adds_people, groups_claim, secret: "", rows: rowsOf(props.provider ?? empty) });

const mapped = () => Object.fromEntries(draft.value.rows.filter(([there, inside]) => there && inside));
const inWords = (those: Record<string, string>) =>
  Object.entries(those)
    .map((pair) => pair.join(" → "))
    .sort()
    .join("\n");
const whom = (adds: boolean) => (adds ? t`adds whoever it vouches for` : t`only who is here`);
const { rows, undecided, header, saving } = useMeanwhile<Provider>(
  props.provider,
  () => [
    { label: t`Title`, read: (one) => one.title, mine: () => draft.value.title, take: (one) => (draft.value.title = one.title) },
    {
      label: t`Client id`,
      read: (one) => one.client_id,
      mine: () => draft.value.client_id,
      take: (one) => (draft.value.client_id = one.client_id),
    },
    {
      label: t`People`,
      read: (one) => whom(one.adds_people),
      mine: () => whom(draft.value.adds_people),
      take: (one) => (draft.value.adds_people = one.adds_people),
    },
    {
      label: t`Claim`,
      read: (one) => one.groups_claim,
      mine: () => draft.value.groups_claim,
      take: (one) => (draft.value.groups_claim = one.groups_claim),
    },
    {
      label: t`Groups that it decides`,
      read: (one) => inWords(one.groups),
      mine: () => inWords(mapped()),
      take: (one) => (draft.value.rows = rowsOf(one)),
    },
  ],
  async () => (await readProviders()).find((one) => one.name === props.provider?.name),
);

const save = () =>
  attempt(async () => {
    const done = await saving(async () => {
      const wanted = draft.value;
      await must(
        api.PUT("/api/v1/directories/{directory}/providers/{provider}", {
          params: { path: { directory: directory.value, provider: wanted.name.trim() }, header: header() },
          body: {
            title: wanted.title,
            issuer: wanted.issuer.trim(),
            client_id: wanted.client_id.trim(),
            secret: wanted.secret || null,
            adds_people: wanted.adds_people,
            groups_claim: wanted.groups_claim,
            groups: mapped(),
            reason: "",
          },
        }),
      );
    });
    if (!done) return;
    await stale();
    emit("done");
  });
const complete = () => [draft.value.name, draft.value.title, draft.value.issuer, draft.value.client_id].every((one) => one.trim());
</script>

<template>
  <form class="stack card" @submit.prevent="save">
    <p v-if="provider">
      <strong>{{ provider.name }}</strong>, by the issuer <code class="long">{{ provider.issuer }}</code>. For another issuer, remove this
      provider and add one.
    </p>
    <TextField v-else v-model="draft.name" label="Short name" hint="as head-office; it stays" :longest="60" />
    <TextField v-model="draft.title" label="Title" hint="people read: Sign in with …" :longest="60" />
    <TextField
      v-if="!provider"
      v-model="draft.issuer"
      label="Issuer"
      hint="by https, exactly as the provider writes it; it stays"
      :longest="400"
    />
    <TextField v-model="draft.client_id" label="Client id" hint="by which the provider knows this directory" :longest="200" />
    <label class="field"
      >Client secret
      <span class="hint">{{ provider?.has_secret ? t`kept, sealed; leave empty to keep it` : t`if the provider gave one` }}</span><input
        v-model="draft.secret"
        class="plain-input"
        type="password"
        autocomplete="off"
        maxlength="500"
    /></label>
    <p class="small">
      The provider must know this redirect URI: <code class="long">{{ backTo }}</code> <CopyButton :value="backTo" what="redirect URI" />
    </p>
    <label class="check"><input v-model="draft.adds_people" type="checkbox" /> Add whoever it vouches for, without a role</label>
    <fieldset class="groups">
      <legend>Groups that it decides</legend>
      <TextField v-model="draft.groups_claim" label="Claim" hint="that lists what somebody is in there" :longest="60" />
      <div v-for="(row, at) in draft.rows" :key="at" class="row">
        <label class="visually-hidden" :for="`${id}-there-${at}`">What it calls the group, {{ at + 1 }}</label>
        <input :id="`${id}-there-${at}`" v-model="row[0]" class="plain-input" maxlength="200" placeholder="What it calls the group" />
        <label class="visually-hidden" :for="`${id}-here-${at}`">Group here, {{ at + 1 }}</label>
        <select :id="`${id}-here-${at}`" v-model="row[1]" class="plain-input">
          <option value="">a group here</option>
          <option v-for="one in groups ?? []" :key="one.name" :value="one.name">{{ one.title || one.name }}</option>
        </select>
      </div>
      <div>
        <button type="button" class="link-button" @click="draft.rows.push(['', ''])">Another group</button>
      </div>
    </fieldset>
    <p class="small soft">Whoever runs the provider can sign in as everybody that it vouches for: another person must agree.</p>
    <Meanwhile v-model="rows" />
    <ProblemNote v-if="error" :error="error" />
    <div class="row">
      <NButton @click="emit('done')">Cancel</NButton>
      <NButton type="primary" attr-type="submit" :loading="busy" :disabled="busy || undecided || !complete()">Save the provider</NButton>
    </div>
  </form>
</template>

<style scoped>
form {
  max-width: 720px;
}
.long {
  overflow-wrap: anywhere;
}
.check {
  display: flex;
  gap: var(--s2);
  align-items: center;
}
.groups {
  border: 0;
  padding: 0;
  margin: 0;
  display: grid;
  gap: var(--s2);
}
.groups legend {
  font-weight: 560;
  padding: 0;
}
</style>
