<script setup lang="ts">
// The tree of a resource's objects. Edited as text, one collection a paragraph, because whoever keeps it has it as a list.
import { NButton } from "naive-ui";
import { computed, ref, shallowRef } from "vue";
import { type Schemas, api, must } from "@/api/client";
import { can, directory } from "@/api/session";
import { useStale } from "@/api/reads/directory";
import { useCollections } from "@/api/reads/resources";
import { useAttempt } from "@/ui/use/attempt";
import { useMeanwhile } from "@/ui/use/meanwhile";
import { useSome } from "@/ui/use/some";
import FindSome from "@/ui/forms/FindSome.vue";
import Meanwhile from "@/ui/forms/Meanwhile.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import { plural } from "@/texts/plural";
import { count, inOrder } from "@/ui/use/words";
import { t } from "@/texts/sentences";

const props = defineProps<{ resource: string; objectName: string }>();
const { data, error } = useCollections(() => props.resource);
const {
  wanted: named,
  shown,
  found,
  all,
} = useSome(
  () => data.value?.collections,
  (one) => `${one.title} ${one.path}`,
);
const editing = ref(false);
const text = ref("");
const { busy, error: failed, attempt } = useAttempt();
const wanted = ref("");
const waits = ref("");
const stale = useStale();
const what = computed(() => (props.objectName ? plural(props.objectName) : t`objects`));
const lies = computed(() => {
  const name = wanted.value.trim();
  const own = (data.value?.collections ?? []).filter((one) => one.objects.includes(name)).map((one) => one.path);
  return [...new Set(own.flatMap((path) => path.split("/").map((_, at, parts) => parts.slice(0, at + 1).join("/"))))];
});

type State = Schemas["Collections"];
const written = (state: State) =>
  state.collections.map((one) => `${one.path}: ${one.title}${one.rule ? ` | ${one.rule}` : ""}\n  ${one.objects.join(" ")}`).join("\n");
const path = () => ({ directory: directory.value, name: props.resource });
const edit = shallowRef<ReturnType<typeof useMeanwhile<State>> | null>(null);
function open(): void {
  if (!data.value) return;
  waits.value = "";
  text.value = written(data.value);
  edit.value = useMeanwhile<State>(
    data.value,
    () => [{ label: t`Collections`, read: written, mine: () => text.value, take: (state) => (text.value = written(state)) }],
    () => must(api.GET("/api/v1/directories/{directory}/resources/{name}/collections", { params: { path: path() } })),
  );
  failed.value = null;
  editing.value = true;
}
interface Line {
  path: string;
  title: string;
  objects: string[];
  rule: string;
}
function read(): Line[] {
  const found: Line[] = [];
  for (const line of text.value.split("\n")) {
    if (!line.trim()) continue;
    if (/^\s/.test(line)) found[found.length - 1]?.objects.push(...line.trim().split(/[\s,]+/));
    else {
      const [path, ...rest] = line.split(":");
      const [title, ...rule] = rest.join(":").split("|");
      found.push({ path: (path ?? "").trim(), title: (title ?? "").trim(), objects: [], rule: rule.join("|").trim() });
    }
  }
  return found;
}
const now = computed(() => read());
const save = () =>
  attempt(async () => {
    const { saving, header } = edit.value!;
    const done = await saving(async () => {
      const answer = await must(
        api.PUT("/api/v1/directories/{directory}/resources/{name}/collections", {
          params: { path: path(), header: header() },
          body: { collections: now.value },
        }),
      );
      waits.value = answer.waits ?? "";
    });
    if (!done) return;
    await stale();
    editing.value = false;
  });
</script>

<template>
  <section aria-labelledby="collections">
    <div class="part-head">
      <h2 id="collections">
        Collections <span class="soft small">named sets of {{ what }}, for reach</span>
      </h2>
      <NButton v-if="can('collections.replace') && !editing" size="small" @click="open">Edit the collections</NButton>
    </div>
    <ProblemNote v-if="error" :error="error" />
    <p v-if="waits" class="waits" role="status">{{ waits }}</p>
    <form v-if="editing" class="stack" @submit.prevent="save">
      <label class="field"
        >Collections
        <span class="hint"
          >a line “path: title”, then indented lines of {{ what }}; “north/inner” lies in “north”; “path: title | rule” where a rule says
          what lies in it</span
        >
        <textarea v-model="text" class="plain-input" rows="14" spellcheck="false"></textarea>
      </label>
      <Meanwhile v-if="edit" v-model="edit.rows.value" />
      <ProblemNote v-if="failed" :error="failed" />
      <div class="row">
        <NButton @click="editing = false">Cancel</NButton>
        <NButton type="primary" attr-type="submit" :disabled="busy || edit?.undecided.value"
          >Replace with {{ count(now.length, "collection") }}, {{ new Set(now.flatMap((one) => one.objects)).size }} {{ what }}</NButton
        >
        <span class="soft small">Guarded APIs act on it within seconds.</span>
      </div>
    </form>
    <template v-else-if="data?.collections.length">
      <FindSome v-model="named" label="Find a collection" :shown="shown.length" :found="found" :all="all" />
      <table class="log">
        <thead>
          <tr>
            <th scope="col">Collection</th>
            <th scope="col" class="num">{{ what }}</th>
            <th scope="col">Its own</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="one in shown" :key="one.path">
            <td :style="{ paddingLeft: `${one.path.split('/').length * 18 - 6}px` }">
              {{ one.title }} <code class="soft">{{ one.path }}</code>
            </td>
            <td class="num">{{ one.size }}</td>
            <td class="small free soft">
              {{ inOrder(one.objects).slice(0, 18).join(", ")
              }}<template v-if="one.objects.length > 18"> and {{ one.objects.length - 18 }} more</template>
            </td>
          </tr>
        </tbody>
      </table>
      <div class="row">
        <input
          v-model="wanted"
          class="plain-input"
          type="search"
          :aria-label="t`Where does this ${objectName} belong?`"
          :placeholder="t`Where does this ${objectName} belong?`"
        />
        <span v-if="wanted.trim()" role="status">{{
          lies.length ? t`${wanted.trim()} lies in ${lies.join(", ")}` : t`${wanted.trim()} lies in no collection`
        }}</span>
      </div>
    </template>
    <p v-else class="soft">No collections yet: every reach is everywhere.</p>
  </section>
</template>

<style scoped>
section {
  display: grid;
  gap: var(--s2);
  margin-top: var(--s5);
}
.part-head {
  display: flex;
  justify-content: space-between;
  align-items: center;
}
textarea {
  font-family: var(--mono);
  font-size: 12.5px;
  width: 100%;
  font-weight: 400;
}
.row input {
  width: min(320px, 100%);
}
.waits {
  border-left: 4px solid var(--wait);
  padding-left: var(--s3);
}
</style>
