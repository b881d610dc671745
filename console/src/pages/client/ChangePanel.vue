<script setup lang="ts">
// Change what a registration says: name, purpose, where it answers, who makes it, and until when it is on trial.
import { NButton } from "naive-ui";
import { ref } from "vue";
import { type Schemas, api, must } from "@/api/client";
import { directory } from "@/api/session";
import { useStale } from "@/api/use";
import { useAttempt } from "@/ui/attempt";
import ProblemNote from "@/ui/ProblemNote.vue";
import TextField from "@/ui/TextField.vue";

const props = defineProps<{ client: Schemas["Client"] }>();
const emit = defineEmits<{ done: [] }>();
const name = ref(props.client.name);
const purpose = ref(props.client.purpose);
const redirects = ref(props.client.redirect_uris.join("\n"));
const publisher = ref(props.client.publisher);
const trial = ref(props.client.trial_ends_at?.slice(0, 10) ?? "");
const { busy, error, attempt } = useAttempt();
const stale = useStale();
const save = () => attempt(async () => {
  const lines = redirects.value.split("\n").map((one) => one.trim()).filter(Boolean);
  const was = props.client.trial_ends_at?.slice(0, 10) ?? "";
  await must(api.PUT("/api/v1/directories/{directory}/clients/{client}", {
    params: { path: { directory: directory.value, client: props.client.id } },
    body: {
      name: name.value, purpose: purpose.value, publisher: publisher.value, redirect_uris: lines,
      no_trial: trial.value === "" && was !== "", ...(trial.value && trial.value !== was ? { trial_ends_at: `${trial.value}T23:59:59Z` } : {}),
    },
  }));
  await stale();
  emit("done");
});
</script>

<template>
  <form class="card stack" @submit.prevent="save">
    <TextField v-model="name" label="Name" :longest="80" />
    <TextField v-model="purpose" label="Purpose" hint="what it is for, in a sentence" :longest="500" />
    <label class="field">Redirect URIs <span class="hint">where answers for people may be sent; one a line, matched exactly</span><textarea v-model="redirects" class="plain-input" rows="3" spellcheck="false"></textarea></label>
    <TextField v-model="publisher" label="Publisher" hint="domain of whoever makes it, if that is somebody else" :longest="253" />
    <label class="field">On trial until <span class="hint">empty: it stays for good</span><input v-model="trial" class="plain-input date" type="date" /></label>
    <ProblemNote v-if="error" :error="error" />
    <div class="row"><NButton @click="emit('done')">Leave it</NButton><NButton type="primary" attr-type="submit" :loading="busy" :disabled="busy || !name.trim() || !purpose.trim()">Save</NButton></div>
  </form>
</template>

<style scoped>
.field { display: grid; gap: var(--s1); font-weight: 560; }
.hint { font-weight: 400; }
textarea { width: 100%; font-family: var(--mono); font-size: var(--t-small); }
.date { width: 180px; }
</style>
