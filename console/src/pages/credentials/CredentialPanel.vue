<script setup lang="ts">
// Add a credential: first by which way the client proves itself, then what that takes.
import { ref } from "vue";
import { useCan } from "@/api/session";
import CertificatePanel from "./CertificatePanel.vue";
import HandoverPanel from "./HandoverPanel.vue";
import KeysPanel from "./KeysPanel.vue";
import SecretPanel from "./SecretPanel.vue";
import { t } from "@/texts/sentences";

const can = useCan();
defineProps<{ client: string }>();
const emit = defineEmits<{ issued: []; closed: [] }>();
type Way = "secret" | "link" | "made" | "certificate" | "requested" | "keys" | "issuer";
const way = ref<Way>("secret");
const shown = ref(false);
const WAYS: { value: Way; label: string; hint: string }[] = [
  { value: "secret", label: t`A secret`, hint: t`shared, shown once; the simplest, and the easiest to lose` },
  ...(can("handovers.make")
    ? [
        {
          value: "link" as const,
          label: t`Handed over`,
          hint: t`by a link or sealed to a key: nobody sees it before whoever receives it`,
        },
      ]
    : []),
  { value: "made", label: t`A certificate made here`, hint: t`with its key pair, returned once` },
  { value: "certificate", label: t`A certificate that it has`, hint: t`upload the public part` },
  {
    value: "requested",
    label: t`A certificate that it asks for`,
    hint: t`issued by this directory for a key that only it has`,
  },
  { value: "keys", label: t`Keys of its own`, hint: t`a JWK Set, or where it publishes one` },
  { value: "issuer", label: t`An outside issuer`, hint: t`says who it is; no secret at all` },
];
function issued(): void {
  shown.value = true;
  emit("issued");
}
</script>

<template>
  <div class="stack">
    <fieldset v-if="!shown" class="ways">
      <legend>How does it prove itself?</legend>
      <label v-for="one in WAYS" :key="one.value"
        ><input v-model="way" type="radio" name="way" :value="one.value" /> {{ one.label }}
        <span class="soft small">{{ one.hint }}</span></label
      >
    </fieldset>
    <SecretPanel v-if="way === 'secret'" :client="client" @issued="issued" @closed="emit('closed')" />
    <HandoverPanel v-else-if="way === 'link'" :client="client" @issued="issued" @closed="emit('closed')" />
    <CertificatePanel
      v-else-if="way === 'made' || way === 'certificate' || way === 'requested'"
      :key="way"
      :client="client"
      :way="way"
      @issued="issued"
      @closed="emit('closed')"
    />
    <KeysPanel v-else :key="way" :client="client" :outside="way === 'issuer'" @closed="emit('closed')" />
  </div>
</template>

<style scoped>
.ways {
  display: grid;
  gap: var(--s1);
  border: 0;
  padding: 0;
  margin: 0;
}
legend {
  font-weight: 560;
  margin-bottom: var(--s1);
  padding: 0;
}
</style>
