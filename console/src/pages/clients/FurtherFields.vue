<script lang="ts">
// What a registration says beside name and purpose, as Register and Change ask for it.
import type { Schemas } from "@/api/client";
import { forPeople, GRANT_TYPES, grant, signsIn } from "@/ui/use/words";

type Held = Pick<
  Schemas["Client"],
  | "redirect_uris"
  | "post_logout_redirect_uris"
  | "backchannel_logout_uri"
  | "sign_in_groups"
  | "publisher"
  | "support_contact"
  | "client_uri"
  | "policy_uri"
  | "tos_uri"
  | "grant_types"
>;

const typesOf = (kind: string) => GRANT_TYPES[kind] ?? [];

/** What stands in the fields for a registration; empty for one to come. */
export const furtherOf = (client?: Held & { kind: string }) => ({
  redirects: client?.redirect_uris.join("\n") ?? "",
  afterwards: client?.post_logout_redirect_uris.join("\n") ?? "",
  told: client?.backchannel_logout_uri ?? "",
  groups: client?.sign_in_groups.join(", ") ?? "",
  publisher: client?.publisher ?? "",
  support: client?.support_contact ?? "",
  home: client?.client_uri ?? "",
  policy: client?.policy_uri ?? "",
  terms: client?.tos_uri ?? "",
  // The grant types that are switched off, by name.
  without: client
    ? typesOf(client.kind)
        .filter((one) => !client.grant_types.includes(one))
        .join(" ")
    : "",
});

const linesOf = (text: string): string[] =>
  text
    .split("\n")
    .map((line) => line.trim())
    .filter(Boolean);

/** What the fields say of a client of this kind, as a request sends it. */
export const saidIn = (fields: ReturnType<typeof furtherOf>, kind: string): Held => ({
  redirect_uris: signsIn(kind) ? linesOf(fields.redirects) : [],
  post_logout_redirect_uris: signsIn(kind) ? linesOf(fields.afterwards) : [],
  backchannel_logout_uri: signsIn(kind) ? fields.told.trim() : "",
  sign_in_groups: forPeople(kind)
    ? fields.groups
        .split(/[\s,]+/)
        .map((name) => name.trim())
        .filter(Boolean)
    : [],
  publisher: fields.publisher.trim(),
  support_contact: fields.support.trim(),
  client_uri: fields.home.trim(),
  policy_uri: fields.policy.trim(),
  tos_uri: fields.terms.trim(),
  // None named: all of its kind.
  grant_types: offOf(fields, kind).length ? usedBy(fields, kind) : [],
});

// Those of this kind that are switched off. One is always used: what was switched off for another kind counts for none.
function offOf(fields: { without: string }, kind: string): string[] {
  const off = fields.without.split(" ");
  const here = typesOf(kind).filter((one) => off.includes(one));
  return here.length < typesOf(kind).length ? here : [];
}
const usedBy = (fields: { without: string }, kind: string) => typesOf(kind).filter((one) => !offOf(fields, kind).includes(one));
</script>

<script setup lang="ts">
import { computed } from "vue";
import TextField from "@/ui/forms/TextField.vue";

const props = defineProps<{ kind: string }>();
const fields = defineModel<ReturnType<typeof furtherOf>>({ required: true });
const used = computed(() => usedBy(fields.value, props.kind));
const turn = (type: string) => {
  const off = offOf(fields.value, props.kind);
  fields.value.without = (off.includes(type) ? off.filter((one) => one !== type) : [...off, type]).join(" ");
};
</script>

<template>
  <template v-if="signsIn(kind)">
    <label class="field">
      Redirect URIs <span class="hint">where people are sent when they signed in; one a line, matched exactly</span>
      <textarea v-model="fields.redirects" class="plain-input" rows="3" spellcheck="false"></textarea>
    </label>
    <label class="field">
      Post-logout redirect URIs <span class="hint">where people may be sent when they signed out; one a line</span>
      <textarea v-model="fields.afterwards" class="plain-input" rows="2" spellcheck="false"></textarea>
    </label>
    <TextField
      v-model="fields.told"
      label="Back-channel logout URI"
      hint="where the service tells it that somebody signed out; empty: nowhere"
      :longest="400"
    />
  </template>
  <TextField
    v-if="forPeople(kind)"
    v-model="fields.groups"
    label="Groups whose people may sign in"
    hint="short names, with commas between; empty: everybody may"
    :longest="500"
  />
  <fieldset class="plain grants">
    <legend>Grant types <span class="hint">ways to a token; switch off what it does not use; one stays</span></legend>
    <label v-for="type in typesOf(kind)" :key="type" class="row">
      <input type="checkbox" :checked="used.includes(type)" :disabled="used.length === 1 && used.includes(type)" @change="turn(type)" />
      {{ grant(type) }}
    </label>
  </fieldset>
  <TextField v-model="fields.publisher" label="Publisher" hint="domain of whoever makes it, if that is somebody else" :longest="253" />
  <TextField
    v-model="fields.support"
    label="Support contact"
    hint="where its users get help: a mail address or an https page"
    :longest="200"
  />
  <template v-if="forPeople(kind)">
    <TextField v-model="fields.home" label="Home page" hint="about it, for its users: https" :longest="400" />
    <TextField v-model="fields.policy" label="Privacy policy" hint="what it does with what it learns: https" :longest="400" />
    <TextField v-model="fields.terms" label="Terms of use" hint="https" :longest="400" />
  </template>
</template>

<style scoped>
.grants {
  display: flex;
  flex-wrap: wrap;
  gap: var(--s1) var(--s3);
}
.grants legend {
  font-weight: 560;
}
textarea {
  width: 100%;
  font-family: var(--mono);
  font-size: var(--t-small);
}
</style>
