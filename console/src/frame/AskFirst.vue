<script setup lang="ts">
// Before something is lost or ended: what it would be, and a way back that has the focus.
import { NButton } from "naive-ui";
import { onMounted, ref } from "vue";
import { say } from "@/texts";
import OverPage from "@/ui/OverPage.vue";
import type { Asked } from "@/ui/use/ask";

const props = defineProps<{ asked: Asked & { answer: (yes: boolean) => void } }>();
const over = ref<InstanceType<typeof OverPage> | null>(null);
const back = ref<{ $el: HTMLElement } | null>(null);
onMounted(() => back.value?.$el.focus());

function settle(yes: boolean): void {
  over.value?.close();
  props.asked.answer(yes);
}
</script>

<template>
  <OverPage ref="over" :title="asked.title" @away="settle(false)">
    <div class="stack">
      <p>{{ asked.text }}</p>
      <div class="row">
        <NButton ref="back" type="primary" @click="settle(false)">{{ asked.no ?? say("all.cancel") }}</NButton>
        <NButton @click="settle(true)">{{ asked.yes }}</NButton>
      </div>
    </div>
  </OverPage>
</template>
