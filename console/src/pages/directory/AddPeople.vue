<script setup lang="ts">
// One person, or a file of them: read first, then saved.
import { NButton } from "naive-ui";
import { ref } from "vue";
import { type Schemas, api, must } from "@/api/client";
import { directory } from "@/api/session";
import { useStale } from "@/api/reads/directory";
import ProblemNote from "@/ui/ProblemNote.vue";
import TextField from "@/ui/forms/TextField.vue";
import { count } from "@/ui/use/words";
import { t } from "@/texts/sentences";

const emit = defineEmits<{ done: [] }>();
const name = ref("");
const login = ref("");
const csv = ref("");
const seen = ref<Schemas["PeopleImported"] | null>(null);
const error = ref<unknown>(null);
const stale = useStale();
const here = () => ({ path: { directory: directory.value } });

async function run(call: () => Promise<void>): Promise<void> {
  error.value = null;
  try {
    await call();
  } catch (problem) {
    error.value = problem;
  }
}
const add = () =>
  run(async () => {
    await must(
      api.POST("/api/v1/directories/{directory}/people", {
        params: here(),
        body: { name: name.value, login: login.value, roles: [] },
      }),
    );
    await stale();
    emit("done");
  });
const load = (dry: boolean) =>
  run(async () => {
    const found = await must(
      api.POST("/api/v1/directories/{directory}/people/import", {
        params: here(),
        body: { csv: csv.value, dry_run: dry },
      }),
    );
    if (dry) {
      seen.value = found;
      return;
    }
    await stale();
    emit("done");
  });
async function pick(event: Event): Promise<void> {
  csv.value = (await (event.target as HTMLInputElement).files?.[0]?.text()) ?? "";
  seen.value = null;
  if (csv.value) await load(true);
}
</script>

<template>
  <div class="sides">
    <form class="stack" @submit.prevent="add">
      <h2>One person</h2>
      <TextField v-model="name" label="Name" :longest="120" />
      <TextField v-model="login" label="Login" hint="as name@domain" :longest="200" />
      <div><NButton type="primary" attr-type="submit" :disabled="!name.trim() || !login.trim()">Add</NButton></div>
    </form>
    <div class="stack">
      <h2>A CSV file</h2>
      <label class="field"
        >File <span class="hint">columns login, name and, by semicolons, groups and roles</span
        ><input type="file" accept=".csv,text/csv" @change="pick"
      /></label>
      <p v-if="seen" role="status">
        {{ count(seen.added.length, "person", "people") }} to add: {{ seen.added.map((one) => one.name).join(", ") || t`nobody` }}.
        {{ seen.present.length }} are here already.
        <template v-if="seen.groups_made.length">Makes the groups {{ seen.groups_made.join(", ") }}.</template>
      </p>
      <div v-if="seen"><NButton type="primary" @click="load(false)">Take them in</NButton></div>
    </div>
    <ProblemNote v-if="error" :error="error" />
  </div>
</template>

<style scoped>
.sides {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: var(--s4) var(--s6);
  align-items: start;
}
.sides > :last-child:nth-child(3) {
  grid-column: 1 / -1;
}
</style>
