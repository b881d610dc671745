<script setup lang="ts">
// Change what a registration says: name, purpose, where it answers, who makes it, and until when it is on trial.
import { NButton } from "naive-ui";
import { ref } from "vue";
import { type Schemas, api, must } from "@/api/client";
import { directory } from "@/api/session";
import { useStale } from "@/api/reads/directory";
import { useAttempt } from "@/ui/use/attempt";
import ProblemNote from "@/ui/ProblemNote.vue";
import TextField from "@/ui/TextField.vue";
import FurtherFields, { furtherOf, saidIn } from "./FurtherFields.vue";

const props = defineProps<{ client: Schemas["Client"] }>();
const emit = defineEmits<{ done: [] }>();
const name = ref(props.client.name);
const purpose = ref(props.client.purpose);
const further = ref(furtherOf(props.client));
const trial = ref(props.client.trial_ends_at?.slice(0, 10) ?? "");
const { busy, error, attempt } = useAttempt();
const stale = useStale();
const save = () =>
  attempt(async () => {
    const was = props.client.trial_ends_at?.slice(0, 10) ?? "";
    await must(
      api.PUT("/api/v1/directories/{directory}/clients/{client}", {
        params: { path: { directory: directory.value, client: props.client.id } },
        body: {
          name: name.value,
          purpose: purpose.value,
          ...saidIn(further.value, props.client.kind),
          no_trial: trial.value === "" && was !== "",
          ...(trial.value && trial.value !== was ? { trial_ends_at: `${trial.value}T23:59:59Z` } : {}),
        },
      }),
    );
    await stale();
    emit("done");
  });
</script>

<template>
  <form class="card stack" @submit.prevent="save">
    <TextField v-model="name" label="Name" :longest="80" />
    <TextField v-model="purpose" label="Purpose" hint="what it is for, in a sentence" :longest="500" />
    <FurtherFields v-model="further" :kind="client.kind" />
    <label class="field"
      >On trial until <span class="hint">empty: it stays for good</span><input v-model="trial" class="plain-input date" type="date"
    /></label>
    <ProblemNote v-if="error" :error="error" />
    <div class="row">
      <NButton @click="emit('done')">Leave it</NButton
      ><NButton type="primary" attr-type="submit" :loading="busy" :disabled="busy || !name.trim() || !purpose.trim()">Save</NButton>
    </div>
  </form>
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
.date {
  width: 180px;
}
</style>
