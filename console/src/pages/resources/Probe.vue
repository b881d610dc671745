<script setup lang="ts">
// Try it: fetch a token, read it, call the resource, and say how it went.
import { NButton } from "naive-ui";
import { computed, ref, watch } from "vue";
import { type Schemas, api, must } from "@/api/client";
import { directory } from "@/api/session";
import { useStale } from "@/api/reads/directory";
import { type Question } from "@/api/reads/resources";
import { useAttempt } from "@/ui/use/attempt";
import ClaimTable from "@/ui/ClaimTable.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import StateWord from "@/ui/StateWord.vue";
import { t } from "@/texts/sentences";

const props = defineProps<{ client: string; question: Question }>();
const asItself = computed(() => props.question.kind === "application");
const own = ref(false);
const secret = ref("");
const found = ref<Schemas["Probe"] | null>(null);
const { busy, error, attempt } = useAttempt();
const stale = useStale();
watch(
  () => props.question,
  () => {
    found.value = null;
    error.value = null;
  },
);

async function probe(): Promise<void> {
  found.value = null;
  const { resource, operation, object, person } = props.question;
  await attempt(async () => {
    found.value = await must(
      api.POST("/api/v1/directories/{directory}/clients/{client}/probe", {
        params: { path: { directory: directory.value, client: props.client } },
        body: {
          resource,
          operation,
          object: object ?? null,
          secret: asItself.value && own.value && secret.value ? secret.value : null,
          person: person ?? null,
        },
      }),
    );
    secret.value = "";
    await stale();
  });
}
</script>

<template>
  <form class="row" data-filter @submit.prevent="probe">
    <NButton attr-type="submit" size="small" :loading="busy" :disabled="busy || (asItself && own && !secret)">Probe it now</NButton>
    <label v-if="asItself" class="way"><input v-model="own" type="checkbox" /> with its own secret</label>
    <input
      v-if="asItself && own"
      v-model="secret"
      class="plain-input"
      type="password"
      autocomplete="off"
      aria-label="The client's secret"
      placeholder="jamb_s1_…"
    />
    <span class="soft small">{{
      asItself && own
        ? t`Asks the token endpoint as anyone would. The secret is not kept; only what reads is called.`
        : asItself
          ? t`With a token that serves the probe alone: all is checked, nothing is done.`
          : t`With a token for this person that serves the probe alone: they need not sign in, and nothing is done.`
    }}</span>
  </form>
  <ProblemNote v-if="error" :error="error" />
  <div v-if="found" class="found stack" role="status">
    <p class="verdict">
      <StateWord :tone="found.works ? 'live' : 'broken'" :word="found.works ? t`Works` : t`Does not work`" />
      {{ found.verdict.replace(/^It (works|does not work)\. /, "") }}
    </p>
    <p v-if="found.call">
      <code>{{ found.call.method }} {{ found.call.url }}</code
      >{{ " " }} <span v-if="found.call.status" class="soft">answered {{ found.call.status }}</span
      ><br v-if="found.call.said" /><code v-if="found.call.said" class="small">{{ found.call.said }}</code>
    </p>
    <details v-if="found.token.claims.length">
      <summary>The token, claim by claim</summary>
      <ClaimTable :claims="[...found.token.header, ...found.token.claims]" :wrong="found.token.wrong" />
    </details>
  </div>
</template>

<style scoped>
.way {
  display: inline-flex;
  gap: 5px;
  align-items: center;
  min-height: 24px;
}
.found {
  border-left: 3px solid var(--line-strong);
  padding-left: var(--s3);
}
.verdict {
  font-size: var(--t-lead);
}
code {
  overflow-wrap: anywhere;
}
input[type="password"] {
  max-width: 260px;
}
</style>
