<script lang="ts">
// The picture that people see beside a client's name. What is chosen is kept until the registration is saved.
import type { Schemas } from "@/api/client";

/** null: it stays. Empty: it is taken off. Else a file's name and its bytes in base64. */
export type LogoChange = null | { name: string; bytes: string };
export const KEEP = null as LogoChange;
const NONE: LogoChange = { name: "", bytes: "" };

export const logoWords = (client: Schemas["Client"], change: LogoChange = KEEP): string => {
  if (change) return change.name || t`none`;
  return client.logo ? `the picture ${client.logo.slice(0, 8)}` : "none";
};
export const sentLogo = (change: LogoChange) => (change ? { logo: change.bytes } : {});

// As the service takes it.
const LARGEST = 500_000;
</script>

<script setup lang="ts">
import { NButton } from "naive-ui";
import { computed, ref } from "vue";
import ClientLogo from "@/ui/ClientLogo.vue";
import { count } from "@/ui/use/words";
import { t } from "@/texts/sentences";

const props = defineProps<{ client: Schemas["Client"] }>();
const change = defineModel<LogoChange>({ required: true });
const fault = ref("");
const file = ref<HTMLInputElement | null>(null);
const held = computed(() => !!props.client.logo && !change.value);

function choose(): void {
  const chosen = file.value?.files?.[0];
  if (!chosen) return;
  fault.value = "";
  if (chosen.size > LARGEST) {
    fault.value = t`This file has ${count(chosen.size, "byte")}; at most ${count(LARGEST, "byte")} are taken. Scale the picture down.`;
    return;
  }
  const reader = new FileReader();
  reader.onload = () => (change.value = { name: chosen.name, bytes: String(reader.result).split(",")[1] ?? "" });
  reader.onerror = () => (fault.value = t`This file cannot be read. Choose it again.`);
  reader.readAsDataURL(chosen);
}
function clear(to: LogoChange): void {
  change.value = to;
  fault.value = "";
  if (file.value) file.value.value = "";
}
</script>

<template>
  <div class="field">
    <label for="logo-file">
      Logo
      <span class="hint"
        >PNG, JPEG or WEBP of up to 500,000 bytes; people see it where they allow something, if the publisher is vouched for</span
      >
    </label>
    <div class="row">
      <ClientLogo v-if="held" :logo="client.logo" />
      <input id="logo-file" ref="file" type="file" accept="image/png,image/jpeg,image/webp" @change="choose" />
      <NButton v-if="held" size="small" @click="clear(NONE)">Take it off</NButton>
      <NButton v-else-if="change" size="small" @click="clear(KEEP)">{{ change.bytes ? t`Choose none` : t`Keep it` }}</NButton>
    </div>
    <p v-if="change && !change.bytes" class="small" role="status">It is taken off when you save.</p>
    <p v-if="fault" class="small" role="alert">{{ fault }}</p>
  </div>
</template>

<style scoped>
.field {
  display: grid;
  gap: var(--s1);
}
label {
  font-weight: 560;
}
.hint {
  font-weight: 400;
}
</style>
