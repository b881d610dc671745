<script setup lang="ts">
// A group: its people and the groups in it, saved in one step.
import { NButton, NCheckbox } from "naive-ui";
import { computed, ref } from "vue";
import { type Schemas, api, must } from "@/api/client";
import { directory } from "@/api/session";
import { offer } from "@/api/undo";
import { readGroups, useStale } from "@/api/reads/directory";
import PickPeople from "@/ui/forms/PickPeople.vue";
import { useAttempt } from "@/ui/use/attempt";
import { useMeanwhile } from "@/ui/use/meanwhile";
import Meanwhile from "@/ui/forms/Meanwhile.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import TextField from "@/ui/forms/TextField.vue";
import { t } from "@/texts/sentences";

const props = defineProps<{ groups: Schemas["Group"][]; group?: Schemas["Group"] }>();
const emit = defineEmits<{ done: [] }>();
const name = ref(props.group?.name ?? "");
const title = ref(props.group?.title ?? "");
const members = ref(props.group?.people.map((one) => one.login) ?? []);
const inner = ref([...(props.group?.groups ?? [])]);
const { busy, error, attempt } = useAttempt();
const stale = useStale();
type Group = Schemas["Group"];
const names = Object.fromEntries((props.group?.people ?? []).map((one) => [one.login, one.name]));
const loginsOf = (one: Group) => one.people.map((person) => person.login);
const { rows, undecided, header, saving, seen } = useMeanwhile<Group>(
  props.group,
  () => [
    { label: t`Title`, read: (one) => one.title, mine: () => title.value, take: (one) => (title.value = one.title) },
    {
      label: t`People`,
      read: (one) => loginsOf(one).sort().join("\n"),
      mine: () => [...members.value].sort().join("\n"),
      take: (one) => (members.value = loginsOf(one)),
    },
    {
      label: t`Groups in it`,
      read: (one) => [...one.groups].sort().join(", "),
      mine: () => [...inner.value].sort().join(", "),
      take: (one) => (inner.value = [...one.groups]),
    },
  ],
  async () => (await readGroups({ q: props.group?.name, limit: 100 })).items.find((one) => one.name === props.group?.name),
);
const others = computed(() => props.groups.filter((one) => one.name !== props.group?.name));
const where = () => ({ path: { directory: directory.value, group: name.value.trim() } });

const run = (call: () => Promise<unknown>) =>
  attempt(async () => {
    if ((await call()) === false) return;
    await stale();
    emit("done");
  });
const save = () =>
  run(() =>
    saving(async () => {
      const before = seen.value;
      const { version } = await must(
        api.PUT("/api/v1/directories/{directory}/groups/{group}", {
          params: { ...where(), header: header() },
          body: { title: title.value, people: members.value, groups: inner.value },
        }),
      );
      if (before)
        offer({
          said: t`You changed the group ${before.title}.`,
          path: `/api/v1/directories/${directory.value}/groups/${before.name}`,
          body: { title: before.title, people: loginsOf(before), groups: before.groups },
          version,
        });
    }),
  );
const remove = () => run(() => must(api.DELETE("/api/v1/directories/{directory}/groups/{group}", { params: where() })));
</script>

<template>
  <form class="stack" @submit.prevent="save">
    <TextField v-if="!group" v-model="name" label="Name" hint="lower-case words joined by hyphens; it stays" :longest="60" />
    <TextField v-model="title" label="Title" :longest="200" />
    <PickPeople v-model="members" :names="names" label="People" />
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
    <Meanwhile v-model="rows" />
    <ProblemNote v-if="error" :error="error" />
    <div class="row">
      <NButton type="primary" attr-type="submit" :disabled="busy || undecided || !name.trim()">Save the group</NButton>
      <NButton v-if="group" quaternary type="error" :disabled="busy" @click="remove">Remove it</NButton>
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
