<script lang="ts">
// What a registration says beside name and purpose, as Register and Change ask for it.
import type { Schemas } from "@/api/client";

type Held = Pick<Schemas["Client"], "redirect_uris" | "publisher" | "support_contact">;

/** What stands in the fields for a registration; empty for one to come. */
export const furtherOf = (client?: Held) => ({
  redirects: client?.redirect_uris.join("\n") ?? "",
  publisher: client?.publisher ?? "",
  support: client?.support_contact ?? "",
});

/** What the fields say, as a request sends it. */
export const saidIn = (fields: ReturnType<typeof furtherOf>): Held => ({
  redirect_uris: fields.redirects
    .split("\n")
    .map((line) => line.trim())
    .filter(Boolean),
  publisher: fields.publisher.trim(),
  support_contact: fields.support.trim(),
});
</script>

<script setup lang="ts">
import TextField from "@/ui/TextField.vue";

const fields = defineModel<ReturnType<typeof furtherOf>>({ required: true });
</script>

<template>
  <label class="field">
    Redirect URIs <span class="hint">where answers for people may be sent; one a line, matched exactly</span>
    <textarea v-model="fields.redirects" class="plain-input" rows="3" spellcheck="false"></textarea>
  </label>
  <TextField v-model="fields.publisher" label="Publisher" hint="domain of whoever makes it, if that is somebody else" :longest="253" />
  <TextField
    v-model="fields.support"
    label="Support contact"
    hint="where its users get help: a mail address or an https page"
    :longest="200"
  />
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
