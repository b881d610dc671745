<script setup lang="ts">
// The map of keys.
import { onMounted, ref } from "vue";
import OverPage from "@/ui/OverPage.vue";
import { t } from "@/texts/sentences";

const emit = defineEmits<{ close: [] }>();
const KEYS = [
  ["/", t`find anything: a page, a client, a person, a permission`],
  ["j  k", t`next and previous row of a list; in it the arrows, too`],
  ["Enter", t`open the row`],
  ["Esc", t`close what is open`],
  ["?", t`this map`],
];
const over = ref<InstanceType<typeof OverPage> | null>(null);
const button = ref<HTMLButtonElement | null>(null);
onMounted(() => button.value?.focus());

function close(): void {
  // The browser gives the focus back when it shuts the dialog, not when the dialog is gone.
  over.value?.close();
  emit("close");
}
defineExpose({ close });
</script>

<template>
  <OverPage ref="over" title="Keys" @away="close">
    <dl class="facts">
      <template v-for="[key, what] in KEYS" :key="key"
        ><dt>
          <kbd>{{ key }}</kbd>
        </dt>
        <dd>{{ what }}</dd></template
      >
    </dl>
    <button ref="button" type="button" class="link-button" @click="close">Close</button>
  </OverPage>
</template>

<style scoped>
.facts {
  margin-bottom: var(--s3);
}
kbd {
  font-family: var(--mono);
  white-space: pre;
}
</style>
