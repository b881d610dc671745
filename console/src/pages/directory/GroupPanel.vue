<script setup lang="ts">
// A group: its people and the groups in it, saved in one step.
import { NButton, NCheckbox } from "naive-ui";
import { computed, ref } from "vue";
import { type Schemas, api, must } from "@/api/client";
import { directory } from "@/api/session";
import { useStale } from "@/api/reads/directory";
import PickPeople from "@/ui/PickPeople.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import TextField from "@/ui/TextField.vue";

const props = defineProps<{ people: Schemas["Person"][]; groups: Schemas["Group"][]; group?: Schemas["Group"] }>();
const emit = defineEmits<{ done: [] }>();
const name = ref(props.group?.name ?? "");
const title = ref(props.group?.title ?? "");
const members = ref(props.group?.people.map((one) => one.login) ?? []);
const inner = ref([...(props.group?.groups ?? [])]);
const error = ref<unknown>(null);
const stale = useStale();
const others = computed(() => props.groups.filter((one) => one.name !== props.group?.name));
const where = () => ({ path: { directory: directory.value, group: name.value.trim() } });

async function run(call: () => Promise<unknown>): Promise<void> {
  error.value = null;
  try {
    await call();
    await stale();
    emit("done");
  } catch (problem) {
    error.value = problem;
  }
}
const save = () =>
  run(() =>
    must(
      api.PUT("/api/v1/directories/{directory}/groups/{group}", {
        params: where(),
        body: { title: title.value, people: members.value, groups: inner.value },
      }),
    ),
  );
const remove = () => run(() => must(api.DELETE("/api/v1/directories/{directory}/groups/{group}", { params: where() })));
</script>

<template>
  <form class="stack" @submit.prevent="save">
    <TextField v-if="!group" v-model="name" label="Name" hint="lower-case words joined by hyphens; it stays" :longest="60" />
    <TextField v-model="title" label="Title" :longest="200" />
    <PickPeople v-model="members" :people="people" label="People" />
    <fieldset v-if="others.length">
      <legend>Groups in it</legend>
      <div class="row">
        <NCheckbox
          v-for="one in others"
          :key="one.name"
          :checked="inner.includes(one.name)"
          @update:checked="(on: boolean) => (inner = on ? [...inner, one.name] : inner.filter((name) => name !== one.name))"
          >{{ one.title }}</NCheckbox
        >
      </div>
    </fieldset>
    <ProblemNote v-if="error" :error="error" />
    <div class="row">
      <NButton type="primary" attr-type="submit" :disabled="!name.trim()">Save the group</NButton>
      <NButton v-if="group" quaternary type="error" @click="remove">Remove it</NButton>
    </div>
  </form>
</template>

<style scoped>
fieldset {
  border: 0;
  padding: 0;
  margin: 0;
}
legend {
  font-weight: 560;
  padding: 0;
}
</style>
