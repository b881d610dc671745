<script setup lang="ts">
// Open rotations for what was chosen: the plan in dates first, then one after the other; what is secret is shown once.
import { NButton } from "naive-ui";
import { computed, ref } from "vue";
import { type Schemas, api, must } from "@/api/client";
import { problemOf } from "@/api/problems";
import { directory } from "@/api/session";
import { useStale } from "@/api/reads/directory";
import { save } from "@/ui/use/save";
import { day } from "@/ui/use/times";
import { useShownOnce } from "@/ui/use/unsaved";

type Due = Schemas["Due"];
const props = defineProps<{ due: Due[] }>();
const emit = defineEmits<{ opened: []; closed: [] }>();
// What was chosen stays listed while the board beneath is read again.
const rows = ref<Due[]>([...props.due]);
const results = ref(new Map<string, { opened?: Schemas["OpenedRotation"]; failed?: string }>());
const busy = ref(false);
const begun = ref(false);
const kept = ref(false);
const saved = ref(false);
const stale = useStale();
const opened = computed(() => [...results.value.values()].flatMap((one) => (one.opened ? [one.opened] : [])));
const secret = computed(() => opened.value.filter((one) => one.issued || one.made));
useShownOnce(() => (secret.value.length && !(kept.value && saved.value) ? "the new credentials" : null));

async function go(): Promise<void> {
  busy.value = begun.value = true;
  emit("opened");
  for (const one of rows.value) {
    try {
      const made = await must(
        api.POST("/api/v1/directories/{directory}/clients/{client}/credentials/{credential}/rotation", {
          params: { path: { directory: directory.value, client: one.client_id, credential: one.credential.id } },
          body: { successor: null, days: null, overlap_days: null },
        }),
      );
      results.value = new Map(results.value).set(one.credential.id, { opened: made });
    } catch (problem) {
      results.value = new Map(results.value).set(one.credential.id, { failed: problemOf(problem).detail });
    }
  }
  busy.value = false;
}
function keep(): void {
  const texts = secret.value.map((one) =>
    [
      `# ${one.rotation.client_name}: follows ${one.rotation.old.hint}`,
      ...(one.issued?.sheets ?? []).map((sheet) => sheet.forms.env),
      ...(one.made ? [one.made.certificate, one.made.private_key, `passphrase ${one.made.passphrase}`] : []),
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
      {{ begun ? "Opened" : "The plan" }}
      <span class="soft small">a credential like the old one is put beside it; the old one is withdrawn when nothing uses it any more</span>
    </h2>
    <table class="log">
      <thead>
        <tr>
          <th scope="col">Client</th>
          <th scope="col">Old one</th>
          <th scope="col">Both stand until</th>
          <th scope="col">{{ begun ? "Result" : "Last used" }}</th>
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
            <template v-if="!begun">{{ one.credential.last_used_at ? day(one.credential.last_used_at) : "never" }}</template>
            <template v-else-if="results.get(one.credential.id)?.opened"
              >✓ followed by <code>{{ results.get(one.credential.id)?.opened?.rotation.new.hint }}</code></template
            >
            <span v-else-if="results.get(one.credential.id)?.failed" class="failed">▲ {{ results.get(one.credential.id)?.failed }}</span>
            <template v-else>…</template>
          </td>
        </tr>
      </tbody>
    </table>
    <div v-if="!begun" class="row">
      <NButton @click="emit('closed')">Cancel</NButton
      ><NButton type="primary" @click="go">Open {{ rows.length }} {{ rows.length === 1 ? "rotation" : "rotations" }}</NButton>
    </div>
    <template v-else-if="!busy">
      <div v-if="secret.length" class="shown-once stack">
        <p>
          <strong>What is secret, for the only time:</strong> {{ secret.length }} new
          {{ secret.length === 1 ? "credential" : "credentials" }}. Nobody can show {{ secret.length === 1 ? "it" : "them" }} again.
        </p>
        <div>
          <NButton type="primary" @click="keep"
            >{{ saved ? "✓ " : "" }}Save {{ secret.length === 1 ? "it in a file" : "them as one file" }}</NButton
          >
        </div>
        <label class="row"><input v-model="kept" type="checkbox" /> I have the file where it belongs</label>
      </div>
      <div>
        <NButton :disabled="secret.length > 0 && !(kept && saved)" @click="close"
          >Close{{ secret.length ? ": it is gone from here" : "" }}</NButton
        >
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
