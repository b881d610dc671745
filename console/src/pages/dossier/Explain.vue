<script setup lang="ts">
// Every check behind allowed or refused, in order, and the smallest change that would turn it.
import { NButton } from "naive-ui";
import { computed, ref, watch } from "vue";
import { useRouter } from "vue-router";
import { can } from "@/api/session";
import { useExplanation, useResource, useResources } from "@/api/use";
import Choose from "@/ui/Choose.vue";
import CopyButton from "@/ui/CopyButton.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import StateWord from "@/ui/StateWord.vue";

const props = defineProps<{ client: string }>();
defineEmits<{ ask: []; issue: [] }>();
const router = useRouter();
const resource = ref<string | null>(null);
const operation = ref<string | null>(null);
const { data: resources } = useResources();
const { data: catalogue } = useResource(() => resource.value ?? "");
const { data, error } = useExplanation(() => props.client, () => resource.value ?? "", () => operation.value ?? "");
watch(resource, () => (operation.value = null));
const places = computed(() => (resources.value ?? []).map((one) => ({ label: one.title, value: one.name })));
const operations = computed(() => (catalogue.value?.operations ?? []).map((one) => ({ label: `${one.title} (${one.name})`, value: one.name })));
</script>

<template>
  <div class="card stack">
    <div class="pick">
      <Choose v-model="resource" :options="places" label="Resource to explain" placeholder="Resource" />
      <Choose v-model="operation" :options="operations" label="Operation to explain" :placeholder="resource ? 'Operation' : 'Choose a resource first'" :disabled="!resource" />
    </div>
    <ProblemNote v-if="error" :error="error" />
    <template v-if="data && operation">
      <p class="verdict" role="status"><StateWord :tone="data.allowed ? 'live' : 'broken'" :word="data.allowed ? 'Allowed' : 'Refused'" /> <code>{{ data.operation }}</code></p>
      <ol class="checks">
        <li v-for="check in data.checks" :key="check.name" :class="{ failed: !check.passed && check.decides }">
          <span class="tick" :aria-label="check.passed ? 'passed' : check.decides ? 'failed' : 'note'">{{ check.passed ? "✓" : check.decides ? "✗" : "·" }}</span>
          <span class="soft name">{{ check.name }}</span> {{ check.evidence }}
        </li>
      </ol>
      <div v-if="data.mend.length" class="mend">
        <h3>The smallest mend</h3>
        <ol>
          <li v-for="step in data.mend" :key="step.kind">
            {{ step.text }} <span v-if="step.added_weight" class="soft small">adds weight {{ step.added_weight }}</span>
            <NButton v-if="step.kind === 'consent' && data.mend[0]?.kind === 'consent'" size="small" @click="router.push({ name: 'consent', params: { id: client } })">{{ can("consent.grant") ? "Look and decide" : "See what it would make possible" }}</NButton>
            <NButton v-if="step.kind === 'ask' && can('asks.add')" size="small" @click="$emit('ask')">Ask</NButton>
            <NButton v-if="step.kind === 'issue-secret' && can('credentials.issue')" size="small" @click="$emit('issue')">Issue a secret</NButton>
            <div v-if="step.command" class="command"><code>{{ step.command }}</code> <CopyButton :value="step.command" what="command" /></div>
          </li>
        </ol>
      </div>
      <p v-else-if="!data.allowed">Nothing in the catalogue would turn this.</p>
    </template>
  </div>
</template>

<style scoped>
.pick { display: grid; grid-template-columns: 220px 1fr; gap: var(--s3); max-width: 640px; }
.verdict { font-size: var(--t-lead); }
.checks li { display: grid; grid-template-columns: 22px 92px 1fr; padding: 2px 0; }
.tick { color: var(--live); font-weight: 700; }
.failed .tick { color: var(--broken); }
.failed { font-weight: 560; }
.mend { border-left: 3px solid var(--accent); padding-left: var(--s3); }
.mend li { padding: 3px 0; }
.mend li > .soft { margin-right: var(--s3); }
.command { display: flex; gap: var(--s2); align-items: center; margin-top: 2px; }
</style>
