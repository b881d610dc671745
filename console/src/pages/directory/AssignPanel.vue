<script setup lang="ts">
// Assign a role to people, groups or clients, over any number of collections in one step.
import { NButton, NCheckbox } from "naive-ui";
import { computed, ref, watch } from "vue";
import { type Schemas, api, must } from "@/api/client";
import { directory } from "@/api/session";
import { useClients } from "@/api/reads/clients";
import { type ReachChoice } from "@/api/reads/consent";
import { useStale } from "@/api/reads/directory";
import PickPeople from "@/ui/forms/PickPeople.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import ReachEditor from "@/ui/forms/ReachEditor.vue";
import { t } from "@/texts/sentences";

const props = defineProps<{ role: Schemas["Role"]; groups: Schemas["Group"][] }>();
const emit = defineEmits<{ done: [] }>();
type Kind = "person" | "group" | "client";
const kind = ref<Kind>("person");
const KINDS = [
  ["person", "people"],
  ["group", "groups"],
  ["client", "clients"],
] as const;
const chosenPeople = ref<string[]>([]);
const chosenGroups = ref<string[]>([]);
const clients = ref<{ id: string; name: string }[]>([]);
const wanted = ref("");
const reach = ref<ReachChoice>({ kind: "everywhere", collections: [] });
const error = ref<unknown>(null);
const gains = ref<Schemas["ClientGain"][]>([]);
const stale = useStale();
watch([kind, clients, reach], () => (gains.value = []), { deep: true });
const { data: found } = useClients(() => ({ q: wanted.value, attention: "", sort: "name", cursor: "" }));
const offers = computed(() => (found.value?.items ?? []).filter((one) => !clients.value.some((other) => other.id === one.id)).slice(0, 5));
const holders = computed(
  () => ({ person: chosenPeople.value, group: chosenGroups.value, client: clients.value.map((one) => one.id) })[kind.value],
);

async function assign(): Promise<void> {
  error.value = null;
  try {
    if (kind.value === "client" && !gains.value.length) {
      // What clients would gain is looked at first.
      gains.value = await must(
        api.POST("/api/v1/directories/{directory}/roles/{role}/assignments/preview", {
          params: { path: { directory: directory.value, role: props.role.name } },
          body: { clients: holders.value, reach: reach.value },
        }),
      );
      return;
    }
    await must(
      api.POST("/api/v1/directories/{directory}/roles/{role}/assignments", {
        params: { path: { directory: directory.value, role: props.role.name } },
        body: { kind: kind.value, holders: holders.value, reach: reach.value },
      }),
    );
    await stale();
    emit("done");
  } catch (problem) {
    error.value = problem;
  }
}
</script>

<template>
  <form class="stack" @submit.prevent="assign">
    <div class="row" role="group" :aria-label="t`To whom ${role.name} is assigned`">
      Assign <strong>{{ role.name }}</strong> to
      <label v-for="[value, word] in KINDS" :key="value" class="way"
        ><input v-model="kind" type="radio" :value="value" :name="`kind-${role.name}`" /> {{ word }}</label
      >
    </div>
    <PickPeople v-if="kind === 'person'" v-model="chosenPeople" label="People" />
    <div v-else-if="kind === 'group'" class="row">
      <NCheckbox
        v-for="one in props.groups"
        :key="one.name"
        :checked="chosenGroups.includes(one.name)"
        @update:checked="
          (on: boolean) => (chosenGroups = on ? [...chosenGroups, one.name] : chosenGroups.filter((name) => name !== one.name))
        "
        >{{ one.title }}</NCheckbox
      >
      <span v-if="!props.groups.length" class="soft">No groups yet.</span>
    </div>
    <div v-else class="stack">
      <ul v-if="clients.length" class="row" aria-label="Clients chosen">
        <li v-for="one in clients" :key="one.id">
          {{ one.name }}
          <button
            type="button"
            class="link-button"
            :aria-label="t`Remove ${one.name}`"
            @click="clients = clients.filter((other) => other.id !== one.id)"
          >
            ×
          </button>
        </li>
      </ul>
      <input
        v-model="wanted"
        class="plain-input"
        type="search"
        aria-label="Part of a client's name"
        placeholder="Part of a client's name"
      />
      <ul class="row" aria-label="Clients that match">
        <li v-for="one in offers" :key="one.id">
          <button type="button" class="link-button small" @click="clients = [...clients, { id: one.id, name: one.name }]">
            + {{ one.name }}
          </button>
        </li>
      </ul>
    </div>
    <ReachEditor v-if="role.resource !== 'jamb'" v-model="reach" :resource="role.resource" label="Where it counts" />
    <ul v-if="gains.length" class="stack gains" aria-live="polite">
      <li v-for="one in gains" :key="one.client_id">
        <strong>{{ one.name }}</strong>, weight {{ one.weight }}:
        {{ [...one.newly, ...one.wider].join(", ") || t`nothing that it cannot do already` }}.
        <template v-if="one.agreement">{{ one.agreement }}</template>
      </li>
    </ul>
    <ProblemNote v-if="error" :error="error" />
    <div class="row">
      <NButton
        type="primary"
        attr-type="submit"
        :disabled="!holders.length || (reach.kind !== 'everywhere' && !reach.collections.length)"
        >{{
          kind === "client" && !gains.length
            ? t`See what it would let them do`
            : gains.some((one) => one.agreement)
              ? t`Ask another person to agree`
              : t`Assign ${role.name}`
        }}</NButton
      >
      <span class="soft small">Who holds it already gets this reach instead.</span>
    </div>
  </form>
</template>

<style scoped>
.gains {
  border-left: 4px solid var(--wait);
  padding-left: var(--s3);
  list-style: none;
}
.way {
  display: inline-flex;
  gap: 5px;
  align-items: center;
  min-height: 24px;
}
</style>
