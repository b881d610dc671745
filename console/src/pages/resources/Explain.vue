<script setup lang="ts">
// Every check behind allowed or refused, in order, and the smallest change that would turn it.
import { NButton } from "naive-ui";
import { computed, ref, watch } from "vue";
import { type RouteLocationRaw, useRouter } from "vue-router";
import { useCan } from "@/api/session";
import { type Question, useExplanation, useResource, useResources } from "@/api/reads/resources";
import Choose from "@/ui/forms/Choose.vue";
import CopyButton from "@/ui/CopyButton.vue";
import PickPeople from "@/ui/forms/PickPeople.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import StateWord from "@/ui/StateWord.vue";
import Probe from "./Probe.vue";
import { t } from "@/texts/sentences";

const can = useCan();
const props = defineProps<{ client: string }>();
defineEmits<{ ask: []; issue: []; ladder: [] }>();
const router = useRouter();
const resource = ref<string | null>(null);
const operation = ref<string | null>(null);
const kind = ref<"application" | "delegated">("application");
const people = ref<string[]>([]);
const person = computed(() => people.value[0] ?? null);
const object = ref("");
const token = ref("");
const withToken = ref(false);
const { data: resources } = useResources();
const { data: catalogue } = useResource(() => resource.value ?? "");
const question = computed<Question | null>(() =>
  resource.value && operation.value
    ? {
        resource: resource.value,
        operation: operation.value,
        kind: kind.value,
        person: kind.value === "delegated" ? person.value : null,
        object: concerns.value && object.value.trim() ? object.value.trim() : null,
        token: withToken.value && token.value.trim() ? token.value.trim() : null,
      }
    : null,
);
/** What can be tried live: as itself, or for a person who is named. */
const probed = computed(() => (question.value && (question.value.kind === "application" || question.value.person) ? question.value : null));
const { data, error } = useExplanation(() => props.client, question);
watch(resource, (now, before) => {
  if (before !== null || !operation.value) operation.value = null;
});
const places = computed(() => (resources.value ?? []).map((one) => ({ label: one.title, value: one.name })));
const operations = computed(() =>
  (catalogue.value?.operations ?? []).map((one) => ({ label: `${one.title} (${one.name})`, value: one.name })),
);
const concerns = computed(() => catalogue.value?.operations.find((one) => one.name === operation.value)?.concerns_object ?? false);
const first = (kind: string) => data.value?.steps[0]?.kind === kind;

/** Where the evidence of a failed check can be seen and changed. */
function where(check: string): RouteLocationRaw | null {
  const here = (part: string): RouteLocationRaw => ({
    name: "dossier",
    params: { id: props.client },
    hash: `#${part}`,
  });
  const places: Record<string, RouteLocationRaw> = {
    operation: { name: "resources", params: { name: resource.value ?? "" } },
    client: here("registration"),
    asked: here("ladder"),
    granted: here("ladder"),
    reach: here("reach"),
    credential: here("credentials"),
    person: { name: "people" },
    role: { name: "people" },
    "token-scope": here("attempts"),
    "token-reach": here("reach"),
    "token-age": here("attempts"),
    "tokens-revoked": here("attempts"),
  };
  return places[check] ?? null;
}

/** Fill the question from elsewhere on the page, as from a refused call. */
function put(place: string, what: string, to: string, way: string): void {
  operation.value = what;
  resource.value = place;
  kind.value = way === "delegated" ? "delegated" : "application";
  object.value = to;
  window.setTimeout(() => (operation.value = what));
}
defineExpose({ put });
</script>

<template>
  <div class="card stack">
    <div class="pick">
      <Choose v-model="resource" :options="places" label="Resource to explain" placeholder="Resource" />
      <Choose
        v-model="operation"
        :options="operations"
        label="Operation to explain"
        :placeholder="resource ? t`Operation` : t`Choose a resource first`"
        :disabled="!resource"
      />
      <input
        v-if="concerns"
        v-model.lazy="object"
        class="plain-input"
        type="search"
        :aria-label="t`To this ${catalogue?.object_name}`"
        :placeholder="t`to any ${catalogue?.object_name}, or this one`"
      />
    </div>
    <div class="row">
      <label class="way"><input v-model="kind" type="radio" value="application" name="explain-kind" /> as itself</label>
      <label class="way"><input v-model="kind" type="radio" value="delegated" name="explain-kind" /> for a person</label>
      <button type="button" class="link-button small" :aria-expanded="withToken" @click="((withToken = !withToken), (token = ''))">
        {{ withToken ? t`without the token` : t`judge a token too` }}
      </button>
      <RouterLink :to="{ name: 'token' }" class="small">read a token</RouterLink>
    </div>
    <PickPeople v-if="kind === 'delegated'" v-model="people" label="Person it acts for" single />
    <label v-if="withToken" class="field"
      >Access token <span class="hint">checked and forgotten; it is not kept</span
      ><textarea v-model.lazy="token" class="plain-input" rows="3" spellcheck="false" autocomplete="off"></textarea>
    </label>
    <Probe v-if="probed && can('probe.run') && (!concerns || question?.object)" :client="client" :question="probed" />
    <p v-else-if="probed && can('probe.run')" class="soft small">Name one {{ catalogue?.object_name }} to probe it live.</p>
    <ProblemNote v-if="error" :error="error" />
    <template v-if="data && operation">
      <p class="verdict" role="status">
        <StateWord :tone="data.allowed ? 'live' : 'broken'" :word="data.allowed ? t`Allowed` : t`Refused`" />{{ " " }}
        <code>{{ data.operation }}</code><template v-if="data.person"> for {{ data.person }}</template
        ><template v-if="data.object"> to {{ data.object }}</template>
      </p>
      <ol class="checks">
        <li v-for="check in data.checks" :key="check.name" :class="{ failed: !check.passed && check.decides }">
          <span class="tick" :aria-label="check.passed ? t`passed` : check.decides ? t`failed` : t`note`">{{
            check.passed ? "✓" : check.decides ? "✗" : "·"
          }}</span>
          <span class="soft name">{{ check.name }}</span>{{ " " }}
          <span
            >{{ check.evidence }}
            <RouterLink v-if="!check.passed && where(check.name)" :to="where(check.name) ?? ''" class="small">{{
              check.name.startsWith("token") || check.name === "tokens-revoked" ? t`its token requests` : t`look there`
            }}</RouterLink></span
          >
        </li>
      </ol>
      <div v-if="data.steps.length" class="steps">
        <h3>The smallest change that would allow it</h3>
        <ol>
          <li v-for="step in data.steps" :key="step.kind">
            {{ step.text }} <span v-if="step.added_weight" class="soft small">adds weight {{ step.added_weight }}</span>
            <NButton
              v-if="step.kind === 'consent' && first('consent')"
              size="small"
              @click="router.push({ name: 'consent', params: { id: client } })"
              >{{ can("consent.grant") ? t`Look and decide` : t`See what it would make possible` }}</NButton
            >
            <NButton v-if="step.kind === 'ask' && can('asks.add')" size="small" @click="$emit('ask')">Ask</NButton>
            <NButton v-if="step.kind === 'issue-secret' && can('credentials.issue')" size="small" @click="$emit('issue')"
              >Issue a secret</NButton
            >
            <NButton v-if="step.kind === 'widen-reach' && can('consent.change-reach')" size="small" @click="$emit('ladder')"
              >To its ladder</NButton
            >
            <NButton
              v-if="step.kind === 'assign-role' && can('roles.assign')"
              size="small"
              @click="router.push({ name: 'people', query: { open: `assign:${step.target}` } })"
              >Assign {{ step.target }}</NButton
            >
            <NButton
              v-if="step.kind === 'collect-object' && can('collections.replace')"
              size="small"
              @click="router.push({ name: 'resources', params: { name: data.resource } })"
              >To the collections</NButton
            >
            <div v-if="step.command" class="command">
              <code>{{ step.command }}</code> <CopyButton :value="step.command" what="command" />
            </div>
          </li>
        </ol>
        <p v-if="data.agreement">{{ data.agreement }}</p>
      </div>
      <p v-else-if="!data.allowed">Nothing in the catalogue would turn this.</p>
    </template>
  </div>
</template>

<style scoped>
.pick {
  display: grid;
  grid-template-columns: 200px 1fr 220px;
  gap: var(--s3);
  max-width: 860px;
}
.way {
  display: inline-flex;
  gap: 5px;
  align-items: center;
  min-height: 24px;
}
.person {
  max-width: 260px;
}
textarea {
  font-family: var(--mono);
  font-size: 12px;
  font-weight: 400;
}
.verdict {
  font-size: var(--t-lead);
}
.checks li {
  display: grid;
  grid-template-columns: 22px 92px 1fr;
  padding: 2px 0;
}
.tick {
  color: var(--live);
  font-weight: 700;
}
.failed .tick {
  color: var(--broken);
}
.failed {
  font-weight: 560;
}
.steps {
  border-left: 3px solid var(--accent);
  padding-left: var(--s3);
}
.steps li {
  padding: 3px 0;
}
.steps li > .soft {
  margin-right: var(--s3);
}
.command {
  display: flex;
  gap: var(--s2);
  align-items: center;
  margin-top: 2px;
}
</style>
