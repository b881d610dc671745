<script lang="ts">
// What a registration says beside name and purpose, as Register and Change ask for it.
import type { Schemas } from "@/api/client";
import { forPeople, signsIn } from "@/ui/use/words";

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
>;

/** What stands in the fields for a registration; empty for one to come. */
export const furtherOf = (client?: Held) => ({
  redirects: client?.redirect_uris.join("\n") ?? "",
  afterwards: client?.post_logout_redirect_uris.join("\n") ?? "",
  told: client?.backchannel_logout_uri ?? "",
  groups: client?.sign_in_groups.join(", ") ?? "",
  publisher: client?.publisher ?? "",
  support: client?.support_contact ?? "",
  home: client?.client_uri ?? "",
  policy: client?.policy_uri ?? "",
  terms: client?.tos_uri ?? "",
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
});
</script>

<script setup lang="ts">
import TextField from "@/ui/forms/TextField.vue";

defineProps<{ kind: string }>();
const fields = defineModel<ReturnType<typeof furtherOf>>({ required: true });
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
.field {
  display: grid;
  gap: var(--s1);
  font-weight: 560;
}
.hint {
  font-weight: 400;
}
textarea {
  width: 100%;
  font-family: var(--mono);
  font-size: var(--t-small);
}
</style>
