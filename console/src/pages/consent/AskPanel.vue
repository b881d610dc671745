<script setup lang="ts">
// From what a client must do to the permissions that unlock it: choose operations, see what each permission opens beyond.
import { NButton, NCheckbox } from "naive-ui";
import { computed, ref, watch } from "vue";
import { type Schemas, api, must } from "@/api/client";
import { directory, useCan } from "@/api/session";
import { type ReachChoice, useProposal } from "@/api/reads/consent";
import { useStale } from "@/api/reads/directory";
import { useResource, useResources } from "@/api/reads/resources";
import { useAttempt } from "@/ui/use/attempt";
import Choose from "@/ui/forms/Choose.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import ReachEditor from "@/ui/forms/ReachEditor.vue";
import TextField from "@/ui/forms/TextField.vue";
import Inherit from "@/pages/clients/Inherit.vue";
import PasteList from "@/pages/clients/PasteList.vue";
import { t } from "@/texts/sentences";
import { listed } from "@/texts/listed";

const can = useCan();
const props = defineProps<{ client: string; held: string[] }>();
const emit = defineEmits<{ done: [] }>();
const { data: resources } = useResources();
const resource = ref<string | null>(null);
const { data: catalogue } = useResource(() => resource.value ?? "");
const needed = ref<string[]>([]);
const chosen = ref<string[]>([]);
const reason = ref("");
const kind = ref<"application" | "delegated">("application");
const reach = ref<ReachChoice>({ kind: "everywhere", collections: [] });
const way = ref<"choose" | "paste" | "inherit">("choose");
const { busy, error, attempt } = useAttempt();
const stale = useStale();

watch(resource, () => {
  needed.value = [];
  chosen.value = [];
  part.value = "";
  reach.value = { kind: "everywhere", collections: [] };
});
// The service proposes the smallest set; what is checked stays the person's choice.
const { data: proposal } = useProposal(
  () => resource.value ?? "",
  needed,
  () => props.client,
  kind,
);
const smallest = computed(() => (needed.value.length && proposal.value?.resource === resource.value ? proposal.value.permissions : []));
// What a permission asked already brings along, directly or not.
const brought = computed(() => {
  const all = new Map((catalogue.value?.permissions ?? []).map((one) => [one.name, one]));
  const found = new Map<string, string>();
  for (const asked of all.keys()) {
    if (!props.held.includes(`${catalogue.value?.name}/${asked}/${kind.value}`)) continue;
    const left = [...(all.get(asked)?.implies ?? [])];
    for (let name = left.pop(); name !== undefined; name = left.pop()) {
      if (found.has(name)) continue;
      found.set(name, asked);
      left.push(...(all.get(name)?.implies ?? []));
    }
  }
  return found;
});
const offers = computed(() =>
  (catalogue.value?.permissions ?? [])
    .filter((one) => one.kinds.includes(kind.value))
    .map((one) => ({
      ...one,
      seen: proposal.value?.alternatives.find((other) => other.permission === one.name),
      held: props.held.includes(`${catalogue.value?.name}/${one.name}/${kind.value}`),
      brought: brought.value.get(one.name) ?? "",
    })),
);
watch(smallest, (names) => (chosen.value = [...names]));

// A long catalogue is narrowed by what one types; what is chosen or proposed never hides.
const FEW = 24;
const part = ref("");
const fits = (...texts: string[]) => texts.join(" ").toLowerCase().includes(part.value.trim().toLowerCase());
const shownOperations = computed(() =>
  (catalogue.value?.operations ?? []).filter((one) => needed.value.includes(one.name) || fits(one.title, one.name, one.path)),
);
const shownOffers = computed(() =>
  offers.value.filter((one) => chosen.value.includes(one.name) || smallest.value.includes(one.name) || fits(one.title, one.name)),
);

const toggle = (list: string[], name: string, on: boolean) => (on ? [...list, name] : list.filter((one) => one !== name));
const options = computed(() =>
  (resources.value ?? []).map((one: Schemas["ResourceLine"]) => ({
    label: `${one.title}: ${one.identifier}`,
    value: one.name,
  })),
);

async function ask(): Promise<void> {
  await attempt(async () => {
    await must(
      api.POST("/api/v1/directories/{directory}/clients/{client}/asks", {
        params: { path: { directory: directory.value, client: props.client } },
        body: {
          resource: resource.value ?? "",
          permissions: chosen.value,
          kind: kind.value,
          reason: reason.value,
          reach: reach.value,
        },
      }),
    );
    await stale();
    needed.value = [];
    chosen.value = [];
    reason.value = "";
    emit("done");
  });
}
</script>

<template>
  <div class="row ways" role="group" aria-label="How to ask">
    <button type="button" class="link-button" :aria-pressed="way === 'choose'" @click="way = 'choose'">Choose what it must do</button>
    <button type="button" class="link-button" :aria-pressed="way === 'paste'" @click="way = 'paste'">Paste a list</button>
    <button v-if="can('inheritance.ask')" type="button" class="link-button" :aria-pressed="way === 'inherit'" @click="way = 'inherit'">
      Inherit what you may do
    </button>
  </div>
  <PasteList v-if="way === 'paste'" :client="client" @done="$emit('done')" />
  <Inherit v-else-if="way === 'inherit'" :client="client" @done="$emit('done')" />
  <div v-else class="stack">
    <div class="row" role="group" aria-label="How it acts">
      <label class="way"><input v-model="kind" type="radio" value="application" name="ask-kind" /> as itself</label>
      <label class="way"><input v-model="kind" type="radio" value="delegated" name="ask-kind" /> for whoever is signed in</label>
    </div>
    <div class="field-like">
      <span class="label">Resource</span>
      <Choose v-model="resource" :options="options" label="Resource" placeholder="Which API does it call?" />
    </div>
    <div v-if="catalogue" class="sides">
      <input
        v-if="catalogue.operations.length + catalogue.permissions.length > FEW"
        v-model="part"
        type="search"
        class="plain-input find"
        aria-label="Find an operation or permission"
        placeholder="Part of an operation or permission"
      />
      <fieldset>
        <legend>What must it do?</legend>
        <ul>
          <li v-for="one in shownOperations" :key="one.name">
            <NCheckbox :checked="needed.includes(one.name)" @update:checked="(on: boolean) => (needed = toggle(needed, one.name, on))">
              {{ one.title }}
            </NCheckbox>
            <span class="soft small"
              ><code>{{ one.method }} {{ one.path }}</code> · {{ listed(one.effect) }}, {{ listed(one.data_class) }}</span
            >
          </li>
        </ul>
      </fieldset>
      <fieldset>
        <legend>Permissions to ask</legend>
        <ul>
          <li v-for="one in shownOffers" :key="one.name" :class="{ fits: smallest.includes(one.name) }">
            <NCheckbox
              :checked="one.held || chosen.includes(one.name)"
              :disabled="one.held"
              :aria-disabled="one.held || undefined"
              @update:checked="(on: boolean) => (chosen = toggle(chosen, one.name, on))"
            >
              <code>{{ one.name }}</code> {{ one.title }}
            </NCheckbox>
            <span class="small" :class="needed.length && one.seen?.beyond.length && chosen.includes(one.name) ? 'beyond' : 'soft'">
              <template v-if="one.held">asked already</template>
              <template v-else-if="one.brought">comes along with {{ one.brought }}, which it asks for already</template>
              <template v-else-if="needed.length && smallest.includes(one.name)"
                >smallest that fits<template v-if="one.seen?.beyond.length"
                  >; also opens {{ one.seen.beyond.join(", ") }}</template
                ></template
              >
              <template v-else-if="needed.length && one.seen"
                >opens {{ one.seen.covers.length }} of {{ needed.length }}, and beyond it
                {{ one.seen.beyond.join(", ") || t`nothing` }}</template
              >
              <template v-else>opens {{ one.opens.join(", ") }}</template>
            </span>
          </li>
        </ul>
      </fieldset>
    </div>
    <p v-if="needed.length && proposal?.unreachable.length" class="beyond">No permission opens {{ proposal.unreachable.join(", ") }}.</p>
    <p v-else-if="needed.length && proposal && !proposal.permissions.length" class="soft">
      Nothing needs asking: what it asks for opens all of this already.
    </p>
    <ReachEditor v-if="chosen.length && resource" v-model="reach" :resource="resource" label="Where it needs this" />
    <TextField
      v-if="chosen.length"
      v-model="reason"
      label="Reason"
      hint="for whoever decides, and for the ledger"
      :longest="500"
      placeholder="Why it needs this"
    />
    <ProblemNote v-if="error" :error="error" />
    <div v-if="catalogue" class="row">
      <NButton type="primary" :disabled="!chosen.length || busy" :loading="busy" @click="ask">
        {{ chosen.length ? t`Ask for ${chosen.join(", ")}` : t`Ask` }}
      </NButton>
      <span class="soft small">{{
        chosen.length ? t`An ask opens nothing until an approver consents.` : t`Choose what it must do, or a permission.`
      }}</span>
    </div>
  </div>
</template>

<style scoped>
.ways {
  margin-bottom: var(--s3);
}
.ways [aria-pressed="true"] {
  color: var(--ink);
  font-weight: 640;
  text-decoration: none;
}
.way {
  display: inline-flex;
  gap: 5px;
  align-items: center;
  min-height: 24px;
}
.field-like {
  display: grid;
  gap: var(--s1);
  max-width: 560px;
}
.label {
  font-weight: 560;
}
.find {
  grid-column: 1 / -1;
  max-width: 420px;
}
fieldset ul {
  max-height: 420px;
  overflow-y: auto;
}
.sides {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: var(--s5);
}
fieldset {
  border: 0;
  border-top: 1px solid var(--line-strong);
  padding: var(--s2) 0 0;
  margin: 0;
  min-width: 0;
}
legend {
  font-weight: 560;
  padding: 0 var(--s2) 0 0;
}
li {
  display: grid;
  padding: 4px 6px;
  border-left: 3px solid transparent;
}
li > span {
  padding-left: 24px;
}
li.fits {
  border-left-color: var(--accent);
  background: color-mix(in srgb, var(--accent) 7%, transparent);
}
.beyond {
  color: var(--wait);
}
</style>
