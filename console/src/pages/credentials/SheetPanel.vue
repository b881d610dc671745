<script setup lang="ts">
// The connection sheet: every value an integrator must type, each to copy, and the whole in the form they need.
import { computed, ref } from "vue";
import type { Schemas } from "@/api/client";
import CopyButton from "@/ui/CopyButton.vue";
import { byArrows } from "@/ui/page/arrows";
import { acting } from "@/ui/use/words";
import { t } from "@/texts/sentences";

const props = defineProps<{ sheets: Schemas["Sheet"][] }>();
const place = ref(0);
const form = ref("text");
const FORMS = [
  { value: "text", label: t`Text` },
  { value: "env", label: ".env" },
  { value: "json", label: "JSON" },
  { value: "http", label: "HTTP" },
  { value: "curl", label: "curl" },
  { value: "python", label: "Python" },
  { value: "javascript", label: "JavaScript" },
];
const sheet = computed(() => props.sheets[place.value] ?? props.sheets[0]);
const rows = computed(() => {
  const one = sheet.value;
  if (!one) return [];
  return [
    { name: t`Issuer`, value: one.issuer },
    ...(one.authorization_endpoint ? [{ name: t`Authorization endpoint`, value: one.authorization_endpoint }] : []),
    { name: t`Token endpoint`, value: one.token_endpoint },
    { name: t`Client id`, value: one.client_id },
    ...one.redirect_uris.map((value) => ({ name: t`Redirect URI`, value })),
    ...(one.secret ? [{ name: t`Client secret`, value: one.secret }] : []),
    ...(one.resource
      ? [
          { name: t`Resource`, value: one.resource },
          { name: t`Scope`, value: one.scopes.join(" ") },
        ]
      : []),
  ];
});
const text = computed(() => sheet.value?.forms[form.value] ?? "");
</script>

<template>
  <div v-if="sheet" class="sheet stack">
    <div v-if="sheets.length > 1" class="row" role="group" aria-label="Resource of the sheet">
      <button
        v-for="(one, index) in sheets"
        :key="`${one.kind}/${one.resource}`"
        type="button"
        class="toggle outlined"
        :aria-pressed="index === place"
        @click="place = index"
      >
        {{ one.resource || t`any resource` }}, {{ acting(one.kind) }}
      </button>
    </div>
    <dl class="facts">
      <template v-for="row in rows" :key="`${row.name}/${row.value}`">
        <dt>{{ row.name }}</dt>
        <dd>
          <code>{{ row.value }}</code> <CopyButton :value="row.value" :what="row.name.toLowerCase()" />
        </dd>
      </template>
    </dl>
    <p v-if="sheet.authorization_url && sheet.redirect_uris.length">
      <a :href="sheet.authorization_url">Try a sign-in</a>
      <span class="soft small">: it asks you as it would ask anybody, and sends you to {{ sheet.redirect_uris[0] }}</span>
    </p>
    <div class="row" role="toolbar" aria-label="Form of the sheet" @keydown="byArrows">
      <button
        v-for="one in FORMS"
        :key="one.value"
        type="button"
        class="toggle outlined"
        :tabindex="form === one.value ? 0 : -1"
        :aria-pressed="form === one.value"
        @click="form = one.value"
      >
        {{ one.label }}
      </button>
      <CopyButton :value="text" :what="t`the sheet as ${form}`" label="copy all" />
    </div>
    <pre tabindex="0" aria-label="Connection sheet">{{ text }}</pre>
  </div>
</template>

<style scoped>
dd {
  display: flex;
  gap: var(--s2);
  align-items: center;
  flex-wrap: wrap;
  overflow-wrap: anywhere;
}
pre {
  margin: 0;
  background: var(--sunk);
  border: 1px solid var(--line);
  border-radius: var(--corner);
  padding: var(--s3);
  overflow-x: auto;
  font: 12.5px/1.5 var(--mono);
  font-variant-ligatures: none;
}
</style>
