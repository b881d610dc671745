<script setup lang="ts">
// What only an administrator can allow becomes a request at the consent desk, in the name of whoever is asked.
import { NButton } from "naive-ui";
import { nextTick, ref } from "vue";
import { type Schemas, api, must } from "@/api/client";
import { useAttempt } from "@/ui/use/attempt";
import Moment from "@/ui/Moment.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import { say } from "@/texts";
import Said from "@/texts/Said";

const props = defineProps<{ asked: Pick<Schemas["AuthorizationAsked"], "requestable" | "requested_until">; request: string }>();
const open = ref(false);
const reason = ref("");
const waits = ref(props.asked.requested_until ?? "");
const field = ref<HTMLTextAreaElement | null>(null);
const { busy, error, attempt } = useAttempt();

async function start(): Promise<void> {
  open.value = true;
  await nextTick();
  field.value?.focus();
}

async function send(): Promise<void> {
  await attempt(async () => {
    const body = { request: props.request, reason: reason.value };
    waits.value = (await must(api.POST("/api/v1/authorizations/requests", { body }))).due_at;
    open.value = false;
  });
}
</script>

<template>
  <Said v-if="waits" text="administrator.waits" tag="p" role="status" class="below">
    <template #moment><Moment :at="waits" /></template>
  </Said>
  <form v-else-if="open" class="stack below" @submit.prevent="send">
    <label class="field">
      {{ say("administrator.why") }} <span class="hint">{{ say("administrator.for_whom") }}</span>
      <textarea ref="field" v-model="reason" class="plain-input" rows="2" maxlength="500" required></textarea>
    </label>
    <ProblemNote v-if="error" :error="error" />
    <div class="row">
      <NButton size="small" @click="open = false">{{ say("all.cancel") }}</NButton>
      <NButton size="small" attr-type="submit" :loading="busy" :disabled="busy || !reason.trim()">{{ say("administrator.send") }}</NButton>
    </div>
  </form>
  <div v-else-if="asked.requestable.length" class="below">
    <NButton size="small" @click="start">{{ say("administrator.ask") }}</NButton>
  </div>
</template>

<style scoped>
.below {
  margin-top: var(--s2);
}
textarea {
  font-weight: 400;
}
</style>
