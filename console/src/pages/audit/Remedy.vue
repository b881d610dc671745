<script setup lang="ts">
// What the remedy of a finding would do, and carrying it out, after what it takes away was said.
import { NButton } from "naive-ui";
import { computed, ref, watch } from "vue";
import { type Schemas, api, must } from "@/api/client";
import { can, directory } from "@/api/session";
import { useMend } from "@/api/reads/audit";
import { type ReachChoice } from "@/api/reads/consent";
import { useStale } from "@/api/reads/directory";
import { useAttempt } from "@/ui/use/attempt";
import PickPeople from "@/ui/forms/PickPeople.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import ReachEditor from "@/ui/forms/ReachEditor.vue";
import TextField from "@/ui/forms/TextField.vue";
import { t } from "@/texts/sentences";

const props = defineProps<{ finding: Schemas["KeptFinding"] }>();
const emit = defineEmits<{ done: [words: string] }>();
const { data, error: unread } = useMend(() => props.finding.id);
const reason = ref("");
const people = ref<string[]>([]);
const reach = ref<ReachChoice>({ kind: "only", collections: [] });
const open = ref(false);
const { busy, error, attempt } = useAttempt();
const stale = useStale();
watch(
  () => props.finding.id,
  () => {
    open.value = false;
    reason.value = "";
    people.value = [];
    error.value = null;
    reach.value = { kind: "only", collections: [] };
  },
);

// Where in the dossier it is done by hand.
const PLACES: Record<string, [string, string]> = {
  rotate: ["#credentials", t`Rotate it`],
  "add-key": ["#credentials", t`Add a key`],
  "change-registration": ["", t`Change the registration`],
  look: ["", t`To the client`],
};
const place = computed(() => PLACES[props.finding.act] ?? ["", t`To the client`]);
const ready = computed(() => {
  const needs = data.value?.needs ?? "";
  return (
    needs === "" ||
    (needs === "reason" && reason.value.trim()) ||
    (needs === "login" && people.value.length === 1) ||
    (needs === "reach" && (reach.value.kind === "everywhere" || reach.value.collections.length))
  );
});
const remedy = () =>
  attempt(async () => {
    const body = {
      reason: reason.value.trim(),
      login: data.value?.needs === "login" ? (people.value[0] ?? "") : "",
      reach: data.value?.needs === "reach" ? { kind: reach.value.kind, collections: reach.value.collections } : null,
    };
    const done = await must(
      api.POST("/api/v1/directories/{directory}/audit/findings/{finding}/remedy", {
        params: { path: { directory: directory.value, finding: props.finding.id } },
        body,
      }),
    );
    await stale();
    emit("done", done.done);
  });
</script>

<template>
  <div class="remedy">
    <p>{{ finding.remedy }}</p>
    <ProblemNote v-if="unread" :error="unread" />
    <p v-if="!data && !unread" class="small soft coming" role="status">Looking at what that would do …</p>
    <template v-if="data">
      <p v-if="data.by_hand">
        <RouterLink class="go" :to="{ name: 'dossier', params: { id: finding.client_id }, hash: place[0] }">{{ place[1] }}</RouterLink>
      </p>
      <template v-else>
        <ul v-if="data.words.length || data.no_longer" class="small effect">
          <li v-for="one in data.words" :key="one">{{ one }}</li>
          <li v-if="data.no_longer && data.needs !== 'reach'">
            No longer possible at {{ data.resource }}:
            <strong>{{ data.no_longer.length ? data.no_longer.join(", ") : t`nothing` }}</strong>
          </li>
          <li v-if="data.narrower?.length">For fewer objects: {{ data.narrower.join(", ") }}</li>
        </ul>
        <p v-if="data.why_not" class="small soft">{{ data.why_not }}</p>
        <NButton
          v-else-if="!open"
          size="small"
          type="primary"
          @click="data.needs === '' && !data.no_longer?.length && !data.words.length ? remedy() : (open = true)"
          >{{ data.title }}</NButton
        >
        <form v-else class="stack" @submit.prevent="remedy">
          <TextField v-if="data.needs === 'reason'" v-model="reason" label="Why?" :longest="500" />
          <PickPeople v-if="data.needs === 'login'" v-model="people" one label="The new owner" />
          <ReachEditor v-if="data.needs === 'reach'" v-model="reach" :resource="data.resource" label="Where it would do" />
          <TextField v-if="data.needs === ''" v-model="reason" label="Why" hint="for the ledger, if you like" :longest="500" />
          <div class="row">
            <NButton size="small" @click="open = false">Cancel</NButton
            ><NButton size="small" type="primary" attr-type="submit" :loading="busy" :disabled="busy || !ready">{{ data.title }}</NButton>
          </div>
        </form>
        <RouterLink v-if="can('clients.read')" class="small" :to="{ name: 'dossier', params: { id: finding.client_id } }"
          >See the client first</RouterLink
        >
      </template>
    </template>
    <ProblemNote v-if="error" :error="error" />
  </div>
</template>

<style scoped>
.remedy {
  display: grid;
  gap: var(--s2);
  justify-items: start;
}
.effect {
  padding-left: 18px;
  display: grid;
  gap: 2px;
}
/* About what comes: nothing jumps. */
.coming {
  min-height: 76px;
}
.go {
  font-weight: 560;
}
form {
  width: 100%;
}
</style>
