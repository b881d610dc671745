<script setup lang="ts">
// The directory's policy: read as sentences, changed in a form that says what would change before it is saved.
import { NButton } from "naive-ui";
import { computed, ref, watch } from "vue";
import { type Schemas, api, must } from "@/api/client";
import { can, directory } from "@/api/session";
import { offer } from "@/api/undo";
import { useGroups, useStale } from "@/api/reads/directory";
import { useAttempt } from "@/ui/use/attempt";
import { useMeanwhile } from "@/ui/use/meanwhile";
import Meanwhile from "@/ui/forms/Meanwhile.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import { t } from "@/texts/sentences";

type Policy = Schemas["Policy"];
type NumberName = { [K in keyof Policy]: Policy[K] extends number ? K : never }[keyof Policy];
type FlagName = { [K in keyof Policy]: Policy[K] extends boolean ? K : never }[keyof Policy];

const props = defineProps<{ policy: Policy; version: string }>();
const emit = defineEmits<{ done: [] }>();
const NUMBERS: { name: NumberName; label: string; unit: string; of: number }[] = [
  { name: "secret_default_days", label: t`Secret lifetime, default`, unit: t`days`, of: 1 },
  { name: "secret_longest_days", label: t`Secret lifetime, longest`, unit: t`days`, of: 1 },
  { name: "key_default_days", label: t`Key and certificate lifetime, default`, unit: t`days`, of: 1 },
  { name: "key_longest_days", label: t`Key and certificate lifetime, longest`, unit: t`days`, of: 1 },
  { name: "credentials_at_once", label: t`Credentials of one client, most`, unit: "", of: 1 },
  { name: "secret_heaviest_weight", label: t`Weight above which a client needs a key`, unit: "", of: 1 },
  { name: "overlap_days", label: t`Rotation overlap`, unit: t`days`, of: 1 },
  { name: "rotation_opens_days", label: t`Automatic rotation before expiry (0: never)`, unit: t`days`, of: 1 },
  { name: "quiet_days", label: t`Quiet period of the old credential`, unit: t`days`, of: 1 },
  { name: "warn_days", label: t`Warn before expiry`, unit: t`days`, of: 1 },
  { name: "observation_days", label: t`Observation before “never used”`, unit: t`days`, of: 1 },
  { name: "use_counts_days", label: t`Usage window`, unit: t`days`, of: 1 },
  { name: "dry_run_days", label: t`Dry run`, unit: t`days`, of: 1 },
  { name: "restore_days", label: t`Restore period of a removed client`, unit: t`days`, of: 1 },
  { name: "digest_hours", label: t`Mail frequency, shortest`, unit: t`hours`, of: 1 },
  { name: "attempts_days", label: t`Retention of token requests`, unit: t`days`, of: 1 },
  { name: "two_people_weight", label: t`Added weight that takes a second person`, unit: "", of: 1 },
  { name: "two_approvers_weight", label: t`Added weight that takes two approvers`, unit: "", of: 1 },
  { name: "adding_days", label: t`Window in which one person’s additions count together`, unit: t`days`, of: 1 },
  { name: "request_days", label: t`Request lifetime`, unit: t`days`, of: 1 },
  { name: "access_token_seconds", label: t`Access token lifetime`, unit: t`minutes`, of: 60 },
  { name: "refresh_idle_days", label: t`Refresh token lifetime, unused`, unit: t`days`, of: 1 },
  { name: "refresh_longest_days", label: t`Access for a person, longest`, unit: t`days`, of: 1 },
  { name: "person_token_seconds", label: t`Command line sign-in lifetime`, unit: t`hours`, of: 3600 },
  { name: "signing_key_days", label: t`Signing key rotation (0: by hand)`, unit: t`days`, of: 1 },
  { name: "session_seconds", label: t`Console sign-in lifetime`, unit: t`hours`, of: 3600 },
  { name: "confirm_minutes", label: t`Sign-in shown anew before heavy changes (0: never)`, unit: t`minutes`, of: 1 },
  { name: "session_idle_seconds", label: t`Console sign-in, unused`, unit: t`minutes`, of: 60 },
];
const FLAGS: { name: FlagName; label: string }[] = [
  { name: "people_may_consent", label: t`Consent by people, where a permission allows it` },
  { name: "self_rotation", label: t`Rotation by clients themselves` },
  { name: "inheritance", label: t`Inheritance of the maker’s rights, without an approver` },
  { name: "second_factor", label: t`Second factor at sign-in, for whoever has a role` },
  { name: "passkey", label: t`Passkey at sign-in, for whoever has a role` },
  { name: "top_role_for_clients", label: t`Roles that hold everything, for clients` },
  { name: "rs256_access_tokens", label: t`Access tokens signed by RS256, for APIs that read no ES256` },
];
const REGISTERING = { nobody: t`registrars alone`, groups: t`registrars and groups`, everyone: t`everyone` } as const;

const { data: groups } = useGroups();
// What the form was filled with: what was changed elsewhere since then is not this form's change.
const base = ref<Policy>(props.policy);
const draft = ref<Policy>({ ...props.policy, registering_groups: [...props.policy.registering_groups] });
const { busy, error, attempt } = useAttempt();
const stale = useStale();
const words = (value: Policy[keyof Policy]): string =>
  Array.isArray(value)
    ? value.join(", ") || t`none`
    : typeof value === "boolean"
      ? value
        ? t`yes`
        : t`no`
      : value in REGISTERING
        ? REGISTERING[value as keyof typeof REGISTERING]
        : String(value);
const SHOWN = [
  ...NUMBERS.map((one) => ({ name: one.name as keyof Policy, label: one.label, unit: one.unit, of: one.of })),
  { name: "registering" as const, label: t`Registration by`, unit: "", of: 1 },
  { name: "registering_groups" as const, label: t`Groups that may register`, unit: "", of: 1 },
  ...FLAGS.map((one) => ({ name: one.name as keyof Policy, label: one.label, unit: "", of: 1 })),
];
const told = (name: keyof Policy, of: number, from: Policy) => (of > 1 ? String(Number(from[name]) / of) : words(from[name]));
const changes = computed(() =>
  SHOWN.filter((one) => JSON.stringify(draft.value[one.name]) !== JSON.stringify(base.value[one.name])).map((one) => ({
    ...one,
    before: told(one.name, one.of, base.value),
    after: told(one.name, one.of, draft.value),
  })),
);
const path = { directory: directory.value };
type Place = { policy: Policy; version: string };
const { rows, undecided, header, saving } = useMeanwhile<Place>(
  { policy: props.policy, version: props.version },
  () =>
    SHOWN.map((one) => ({
      label: one.label,
      read: (state: Place) => told(one.name, one.of, state.policy),
      mine: () => told(one.name, one.of, draft.value),
      take: (state: Place) => {
        Object.assign(draft.value, { [one.name]: state.policy[one.name] });
      },
    })),
  async () => {
    const now = await must(api.GET("/api/v1/directories/{directory}", { params: { path } }));
    base.value = now.policy;
    return now;
  },
);

const preview = ref<Schemas["PolicyPreview"] | null>(null);
// Nothing is saved before it is seen; and what comes moves the button from under nobody's hand.
const looking = ref(false);
let asked = 0;
watch(changes, async (now) => {
  const mine = ++asked;
  preview.value = null;
  error.value = null;
  looking.value = now.length > 0;
  if (!now.length) return;
  const body = Object.fromEntries(now.map((one) => [one.name, draft.value[one.name]]));
  try {
    const found = await must(
      api.POST("/api/v1/directories/{directory}/policy/preview", {
        params: { path: { directory: directory.value } },
        body,
      }),
    );
    // An older answer is never shown beside newer choices.
    if (mine === asked) preview.value = found;
  } catch (problem) {
    if (mine === asked) error.value = problem;
  } finally {
    if (mine === asked) looking.value = false;
  }
});

function put(name: NumberName, of: number, sent: string): void {
  draft.value[name] = Math.round(Number(sent) * of);
}
function choose(group: string, on: boolean): void {
  const rest = draft.value.registering_groups.filter((one) => one !== group);
  draft.value.registering_groups = on ? [...rest, group] : rest;
}
async function save(): Promise<void> {
  await attempt(async () => {
    // Read when it is sent: what was chosen of somebody else's change is in the form by then.
    const body = () => Object.fromEntries(changes.value.map((one) => [one.name, draft.value[one.name]]));
    const done = await saving(async () => {
      const before = Object.fromEntries(changes.value.map((one) => [one.name, base.value[one.name]]));
      const { version } = await must(
        api.PUT("/api/v1/directories/{directory}/policy", { params: { path, header: header() }, body: body() }),
      );
      offer({
        said: t`You changed the policy.`,
        path: `/api/v1/directories/${directory.value}/policy`,
        body: before,
        version,
      });
    });
    if (!done) return;
    await stale();
    emit("done");
  });
}
</script>

<template>
  <form class="stack" @submit.prevent="save">
    <div v-for="one in NUMBERS" :key="one.name" class="line">
      <label :for="`policy-${one.name}`">{{ one.label }}</label>
      <span
        ><input
          :id="`policy-${one.name}`"
          class="plain-input"
          type="number"
          min="0"
          step="any"
          required
          :value="draft[one.name] / one.of"
          @input="put(one.name, one.of, ($event.target as HTMLInputElement).value)"
        />
        {{ one.unit }}</span
      >
    </div>
    <div class="line">
      <label for="policy-registering">Clients are registered by</label>
      <select id="policy-registering" v-model="draft.registering" class="plain-input">
        <option v-for="(label, value) in REGISTERING" :key="value" :value="value">{{ label }}</option>
      </select>
    </div>
    <fieldset v-if="draft.registering === 'groups'" class="groups">
      <legend>Groups that may register</legend>
      <label v-for="one in groups" :key="one.name" class="check"
        ><input
          type="checkbox"
          :checked="draft.registering_groups.includes(one.name)"
          @change="choose(one.name, ($event.target as HTMLInputElement).checked)"
        />
        {{ one.title }}</label
      >
      <p v-if="!groups?.length" class="soft small">There are no groups yet: make one on the page of people.</p>
    </fieldset>
    <label v-for="one in FLAGS" :key="one.name" class="check"><input v-model="draft[one.name]" type="checkbox" /> {{ one.label }}</label>
    <div v-if="changes.length" class="changes" role="status">
      <strong>Would change</strong>
      <p v-if="looking" class="breach soft">Looking at what would be in breach…</p>
      <p v-if="preview" class="breach">
        <template v-if="preview.new.length"
          ><strong>{{ preview.new.length }} would be in breach</strong>, and go on working until they end:
          <span v-for="(one, place) in preview.new.slice(0, 8)" :key="place"
            ><RouterLink :to="`/clients/${one.client_id}#credentials`">{{ one.client_name }}</RouterLink> ({{ one.words }}){{
              place < Math.min(preview.new.length, 8) - 1 ? ", " : ""
            }}</span
          >
          <template v-if="preview.new.length > 8"> and {{ preview.new.length - 8 }} more</template>.</template
        >
        <template v-else>Nobody would be newly in breach.</template>
        <template v-if="preview.resolved"> {{ preview.resolved }} would be no more.</template>
      </p>
      <ul>
        <li v-for="one in changes" :key="one.name">
          {{ one.label }}: {{ one.before }} → <strong>{{ one.after }}</strong> {{ one.unit }}
        </li>
      </ul>
    </div>
    <Meanwhile v-model="rows" />
    <ProblemNote v-if="error" :error="error" />
    <div class="row">
      <NButton
        type="primary"
        attr-type="submit"
        :loading="busy"
        :disabled="!changes.length || looking || undecided || !can('policy.change')"
        >Save the policy</NButton
      >
      <NButton @click="emit('done')">Cancel</NButton>
    </div>
  </form>
</template>

<style scoped>
.line {
  display: grid;
  grid-template-columns: 1fr 190px;
  gap: var(--s3);
  align-items: center;
}
.line .plain-input[type="number"] {
  width: 96px;
}
.check {
  display: flex;
  gap: var(--s2);
  align-items: baseline;
}
.groups {
  display: grid;
  gap: var(--s1);
  border: 1px solid var(--line);
  border-radius: var(--corner);
  padding: var(--s2) var(--s3);
}
.changes {
  border-left: 4px solid var(--accent);
  padding-left: var(--s3);
}
.breach {
  margin: var(--s1) 0 0;
}
.changes ul {
  margin: var(--s1) 0 0;
  padding-left: var(--s4);
}
</style>
