<script setup lang="ts">
// Publish or change a resource: its text, whom the change affects, then the change. An OpenAPI document makes a draft.
import { NButton } from "naive-ui";
import { computed, ref, watch } from "vue";
import { type Schemas, api, must } from "@/api/client";
import { directory } from "@/api/session";
import { useStale } from "@/api/reads/directory";
import { useMeanwhile } from "@/ui/use/meanwhile";
import Meanwhile from "@/ui/forms/Meanwhile.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import TextField from "@/ui/forms/TextField.vue";
import { acting, count } from "@/ui/use/words";
import { t } from "@/texts/sentences";

const props = defineProps<{ resource?: Schemas["Resource"] }>();
const emit = defineEmits<{ done: [name: string] }>();
const EMPTY = {
  title: "",
  identifier: "https://",
  object_name: "",
  questions: [],
  terms: "",
  operations: [],
  permissions: [],
};
const name = ref(props.resource?.name ?? "");
const only = (one: object, names: string[]) => Object.fromEntries(Object.entries(one).filter(([key]) => names.includes(key)));
const asText = (from: Schemas["Resource"] | undefined) =>
  JSON.stringify(
    from
      ? {
          ...only(from, ["title", "identifier", "object_name", "questions", "terms", "guard_client_id"]),
          operations: from.operations.map((one) => only(one, ["name", "title", "method", "path", "effect", "data_class"])),
          permissions: from.permissions.map((one) =>
            only(one, ["name", "title", "kinds", "unlocks", "implies", "consent_by", "text", "person_text"]),
          ),
        }
      : EMPTY,
    null,
    2,
  );
const text = ref(asText(props.resource));
const change = ref<Schemas["ResourceChange"] | null>(null);
const error = ref<unknown>(null);
const broken = ref("");
const waits = ref("");
const stale = useStale();
// Of another text nothing was seen yet.
watch([text, name], () => (change.value = null));
const params = computed(() => ({ path: { directory: directory.value, name: name.value.trim() } }));

function body(): Schemas["ResourceSent"] | null {
  broken.value = "";
  try {
    return JSON.parse(text.value) as Schemas["ResourceSent"];
  } catch (problem) {
    broken.value = t`The text is not JSON: ${(problem as Error).message}`;
    return null;
  }
}
async function run(call: (sent: Schemas["ResourceSent"]) => Promise<void>): Promise<void> {
  error.value = null;
  const sent = body();
  if (!sent) return;
  try {
    await call(sent);
  } catch (problem) {
    error.value = problem;
  }
}
const look = () =>
  run(
    async (sent) =>
      void (change.value = await must(
        api.POST("/api/v1/directories/{directory}/resources/{name}/preview", { params: params.value, body: sent }),
      )),
  );
const { rows, undecided, header, saving } = useMeanwhile<Schemas["Resource"]>(
  props.resource,
  () => [{ label: t`Resource`, read: asText, mine: () => text.value, take: (state) => (text.value = asText(state)) }],
  () => must(api.GET("/api/v1/directories/{directory}/resources/{name}", { params: params.value })),
);
const publish = () =>
  run(async (sent) => {
    let done: Schemas["ResourceChange"] | null = null;
    const saved = await saving(async () => {
      done = await must(
        api.PUT("/api/v1/directories/{directory}/resources/{name}", {
          params: { ...params.value, header: header() },
          body: body() ?? sent,
        }),
      );
    });
    if (!saved) return;
    await stale();
    // What waits for an approver is said before this closes.
    waits.value = (done as Schemas["ResourceChange"] | null)?.waits ?? "";
    if (!waits.value) emit("done", name.value.trim());
  });
async function draft(event: Event): Promise<void> {
  const file = (event.target as HTMLInputElement).files?.[0];
  if (!file) return;
  error.value = null;
  broken.value = "";
  try {
    const document = JSON.parse(await file.text()) as Record<string, unknown>;
    const made = await must(
      api.POST("/api/v1/directories/{directory}/resources/draft", {
        params: { path: { directory: directory.value } },
        body: { document, data_class: "internal" },
      }),
    );
    text.value = JSON.stringify({ ...(JSON.parse(text.value) as object), operations: made.operations }, null, 2);
  } catch (problem) {
    if (problem instanceof SyntaxError) broken.value = t`The file is not JSON.`;
    else error.value = problem;
  }
}
const PARTS = [
  ["operations_added", t`Operations added`],
  ["operations_gone", t`Operations gone`],
  ["operations_changed", t`Operations changed`],
  ["permissions_added", t`Permissions added`],
  ["permissions_gone", t`Permissions gone`],
  ["permissions_changed", t`Permissions changed`],
] as const;
</script>

<template>
  <form class="card stack" @submit.prevent="look">
    <TextField v-if="!resource" v-model="name" label="Short name" hint="lower-case words joined by hyphens; it stays" :longest="40" />
    <label class="field"
      >{{ resource ? t`${resource.title} as text` : t`The resource as text` }}
      <span class="hint"
        >operations (method and path, effect read, write or control, data_class open, internal, personal or restricted) and the permissions
        that unlock them</span
      >
      <textarea v-model="text" class="plain-input" rows="18" spellcheck="false"></textarea>
    </label>
    <label class="field"
      >Operations from an OpenAPI 3.1 document <span class="hint">JSON; replaces the operations above, to be corrected</span
      ><input type="file" accept=".json,application/json" @change="draft"
    /></label>
    <p v-if="broken" class="problem" role="alert">{{ broken }}</p>
    <Meanwhile v-model="rows" />
    <ProblemNote v-if="error" :error="error" />
    <template v-if="change">
      <h2>{{ change.new ? t`A new resource` : t`What would change` }}</h2>
      <dl class="facts">
        <template v-for="[part, label] in PARTS" :key="part"
          ><template v-if="change[part].length"
            ><dt>{{ label }}</dt>
            <dd>
              <code>{{ change[part].join(", ") }}</code>
            </dd></template
          ></template
        >
      </dl>
      <table v-if="change.affected.length" class="log">
        <thead>
          <tr>
            <th scope="col">Client</th>
            <th scope="col">Newly possible</th>
            <th scope="col">Wider or heavier</th>
            <th scope="col">Less or gone</th>
            <th scope="col" class="num">Weight</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="one in change.affected" :key="`${one.client_id}/${one.kind}`">
            <td class="free">
              {{ one.client_name }}
              <div class="soft small">{{ acting(one.kind) }}</div>
            </td>
            <td class="free">{{ one.newly.join(", ") || "–" }}</td>
            <td class="free">{{ one.wider.join(", ") || "–" }}</td>
            <td class="free">{{ [...one.narrower, ...one.no_longer].join(", ") || "–" }}</td>
            <td class="num">{{ one.added_weight > 0 ? "+" : "" }}{{ one.added_weight }}</td>
          </tr>
        </tbody>
      </table>
      <p v-if="!change.new" class="soft">
        For {{ count(change.untouched, "other client that holds", "other clients that hold") }} something here nothing changes.
      </p>
      <ul v-if="change.wider?.length" class="waits">
        <li v-for="words in change.wider" :key="words">{{ words }}</li>
        <li class="soft">This lets somebody do more than was consented to: it waits for an approver. All else acts at once.</li>
      </ul>
      <p v-for="one in change.blocking" :key="one.permission" class="problem">
        <code>{{ one.permission }}</code> cannot go: {{ one.held_by.join(", ") }} still stand on it.
      </p>
    </template>
    <section v-if="waits" class="waits stack" role="status">
      <p>{{ waits }}</p>
      <div><NButton type="primary" @click="emit('done', name.trim())">Done</NButton></div>
    </section>
    <div v-else class="row">
      <NButton attr-type="submit" :disabled="!name.trim()">See whom it affects</NButton>
      <NButton type="primary" :disabled="!change || change.blocking.length > 0 || undecided" @click="publish">Publish</NButton>
      <span v-if="!change" class="soft small">Look before you publish.</span>
    </div>
  </form>
</template>

<style scoped>
textarea {
  font-family: var(--mono);
  font-size: 12.5px;
  width: 100%;
  font-weight: 400;
}
.waits {
  border-left: 4px solid var(--wait);
  padding-left: var(--s3);
  list-style: none;
}
.problem {
  border-left: 4px solid var(--broken);
  background: var(--broken-bg);
  padding: var(--s2) var(--s3);
}
</style>
