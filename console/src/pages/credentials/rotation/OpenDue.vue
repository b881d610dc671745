<script setup lang="ts">
// Open rotations for what was chosen: the plan in dates first, then many at once; what is secret is shown once.
import { NButton } from "naive-ui";
import { computed, ref } from "vue";
import { type Schemas, api, must } from "@/api/client";
import { madeName } from "@/api/network";
import { inShort, problemFrom, problemOf } from "@/api/problems";
import { directory } from "@/api/session";
import { useStale } from "@/api/reads/directory";
import { save } from "@/ui/use/save";
import { day } from "@/ui/use/times";
import { useShownOnce } from "@/ui/use/unsaved";
import { t } from "@/texts/sentences";
import { count } from "@/ui/use/words";

type Due = Schemas["Due"];
type Result = { opened?: Schemas["OpenedRotation"]; failed?: string };
// So many are opened by one request.
const TOGETHER = 50;
const props = defineProps<{ due: Due[] }>();
const emit = defineEmits<{ opened: []; closed: [] }>();
// What was chosen stays listed while the board beneath is read again.
const rows = ref<Due[]>([...props.due]);
const results = ref(new Map<string, Result>());
const way = ref<"shown" | "owners">("shown");
const deliver = computed(() => (way.value === "owners" ? ("owners" as const) : null));
const busy = ref(false);
const begun = ref(false);
const kept = ref(false);
const saved = ref(false);
const stale = useStale();
const opened = computed(() => [...results.value.values()].flatMap((one) => (one.opened ? [one.opened] : [])));
const secret = computed(() => opened.value.filter((one) => one.issued || one.made));
useShownOnce(() => (secret.value.length && !(kept.value && saved.value) ? t`the new credentials` : null));

function tell(one: Due, result: Result): void {
  results.value = new Map(results.value).set(one.credential.id, result);
}
async function go(): Promise<void> {
  busy.value = begun.value = true;
  emit("opened");
  const all = [...rows.value];
  while (all.length) await openSome(all.splice(0, TOGETHER));
  busy.value = false;
}
async function openSome(some: Due[]): Promise<void> {
  const asked = some.map((one) => ({ client: one.client_id, credential: one.credential.id, id: madeName() }));
  try {
    const { opened, failed } = await must(
      api.POST("/api/v1/directories/{directory}/rotations", {
        params: { path: { directory: directory.value } },
        body: { rotations: asked, days: null, overlap_days: null, deliver: deliver.value },
      }),
    );
    const made = new Map(opened.map((one) => [one.rotation.old.id, one]));
    const refused = new Map(failed.map((one) => [one.credential_id, one.problem]));
    for (const one of some) {
      const [done, problem] = [made.get(one.credential.id), refused.get(one.credential.id)];
      if (done) tell(one, { opened: done });
      else if (problem?.type.endsWith("needs-agreement")) await openAlone(one);
      else tell(one, { failed: problem ? inShort(problemFrom(problem, problem.status)) : t`It was not opened` });
    }
  } catch (problem) {
    // Whose role counts for some clients only may open theirs one by one.
    if (problemOf(problem).type.endsWith("forbidden")) for (const one of some) await openAlone(one);
    else for (const one of some) tell(one, { failed: inShort(problemOf(problem)) });
  }
}
async function openAlone(one: Due): Promise<void> {
  try {
    const made = await must(
      api.POST("/api/v1/directories/{directory}/clients/{client}/credentials/{credential}/rotation", {
        params: { path: { directory: directory.value, client: one.client_id, credential: one.credential.id } },
        body: { successor: null, days: null, overlap_days: null, deliver: deliver.value },
      }),
    );
    tell(one, { opened: made });
  } catch (problem) {
    tell(one, { failed: inShort(problemOf(problem)) });
  }
}
function keep(): void {
  const texts = secret.value.map((one) =>
    [
      `# ${one.rotation.client_name}: follows ${one.rotation.old.hint}`,
      ...(one.issued?.sheets ?? []).map((sheet) => sheet.forms.env),
      ...(one.made ? [one.made.certificate, one.made.private_key, t`passphrase ${one.made.passphrase}`] : []),
    ].join("\n"),
  );
  save(`rotations-${new Date().toISOString().slice(0, 10)}.txt`, texts.join("\n\n") + "\n");
  saved.value = true;
}
async function close(): Promise<void> {
  results.value = new Map();
  await stale();
  emit("closed");
}
</script>

<template>
  <section class="card stack" aria-labelledby="plan">
    <h2 id="plan">
      {{ begun ? t`Opened` : t`The plan` }}
      <span class="soft small">a credential like the old one is put beside it; the old one is withdrawn when nothing uses it any more</span>
    </h2>
    <table class="log">
      <thead>
        <tr>
          <th scope="col">Client</th>
          <th scope="col">Old one</th>
          <th scope="col">Both stand until</th>
          <th scope="col">{{ begun ? t`Result` : t`Last used` }}</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="one in rows" :key="one.credential.id">
          <td class="free">{{ one.client_name }}</td>
          <td>
            <code>{{ one.credential.hint }}</code>
          </td>
          <td>{{ day(one.overlap_ends_at) }}</td>
          <td class="free">
            <template v-if="!begun">{{ one.credential.last_used_at ? day(one.credential.last_used_at) : t`never` }}</template>
            <template v-else-if="results.get(one.credential.id)?.opened"
              >✓ followed by <code>{{ results.get(one.credential.id)?.opened?.rotation.new.hint }}</code><template
                v-if="results.get(one.credential.id)?.opened?.delivered_to?.length"
                >, mailed to {{ results.get(one.credential.id)?.opened?.delivered_to?.join(", ") }}</template
              ></template
            >
            <span v-else-if="results.get(one.credential.id)?.failed" class="failed">▲ {{ results.get(one.credential.id)?.failed }}</span>
            <template v-else>…</template>
          </td>
        </tr>
      </tbody>
    </table>
    <fieldset v-if="!begun" class="row plain">
      <legend>Where do the new ones go?</legend>
      <label><input v-model="way" type="radio" name="way" value="shown" /> Shown here, once</label>
      <label
        ><input v-model="way" type="radio" name="way" value="owners" /> A link in the mail of each client's owners; you never see a
        secret</label
      >
    </fieldset>
    <div v-if="!begun" class="row">
      <NButton @click="emit('closed')">Cancel</NButton
      ><NButton type="primary" @click="go">Open {{ count(rows.length, "rotation") }}</NButton>
    </div>
    <template v-else-if="!busy">
      <div v-if="secret.length" class="shown-once stack">
        <p>
          <strong>What is secret, for the only time:</strong> {{ count(secret.length, "new credential") }}.
          {{ secret.length === 1 ? t`Nobody can show it again.` : t`Nobody can show them again.` }}
        </p>
        <div>
          <NButton type="primary" @click="keep"
            >{{ saved ? "✓ " : "" }}{{ secret.length === 1 ? t`Save it in a file` : t`Save them as one file` }}</NButton
          >
        </div>
        <label class="row"><input v-model="kept" type="checkbox" /> I have the file where it belongs</label>
      </div>
      <div>
        <NButton :disabled="secret.length > 0 && !(kept && saved)" @click="close">{{
          secret.length ? t`Close: it is gone from here` : t`Close`
        }}</NButton>
      </div>
    </template>
    <p v-else role="status">{{ results.size }} of {{ rows.length }} …</p>
  </section>
</template>

<style scoped>
.card {
  margin-bottom: var(--s5);
}
.failed {
  color: var(--broken);
}
</style>
