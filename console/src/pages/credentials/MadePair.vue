<script setup lang="ts">
// A key pair that was made here, to save while it is shown.
import { NButton } from "naive-ui";
import { ref } from "vue";
import type { Schemas } from "@/api/client";
import CopyButton from "@/ui/CopyButton.vue";
import { save } from "@/ui/use/save";

const props = defineProps<{ made: Schemas["MadeCertificate"]; name: string }>();
const saved = ref(new Set<string>());
function keep(ending: string, content: BlobPart): void {
  save(`${props.name}.${ending}`, content);
  saved.value = new Set([...saved.value, ending]);
}
const pkcs12 = () => Uint8Array.from(atob(props.made.pkcs12), (one) => one.charCodeAt(0));
</script>

<template>
  <dl class="facts">
    <dt>Passphrase</dt>
    <dd>
      <code>{{ made.passphrase }}</code> <CopyButton :value="made.passphrase" what="passphrase" />
    </dd>
    <dt>SHA-256</dt>
    <dd>
      <code class="small">{{ made.credential.certificate?.thumbprint }}</code>
    </dd>
  </dl>
  <div class="row">
    <NButton size="small" @click="keep('p12', pkcs12())">{{ saved.has("p12") ? "✓ " : "" }}Key and certificate (PKCS#12)</NButton>
    <NButton size="small" @click="keep('key', made.private_key)">{{ saved.has("key") ? "✓ " : "" }}Private key (PEM)</NButton>
    <NButton size="small" @click="keep('pem', made.certificate)">{{ saved.has("pem") ? "✓ " : "" }}Certificate (PEM)</NButton>
  </div>
</template>

<style scoped>
dd {
  overflow-wrap: anywhere;
}
</style>
