<script setup lang="ts">
// Change where a granted permission counts; narrowing acts on tokens from before within seconds.
import { NButton } from "naive-ui";
import { ref } from "vue";
import { type Schemas, api, must } from "@/api/client";
import { directory } from "@/api/session";
import { type ReachChoice, useStale } from "@/api/use";
import ProblemNote from "@/ui/ProblemNote.vue";
import ReachEditor from "@/ui/ReachEditor.vue";

const props = defineProps<{ client: string; resource: string; rung: Schemas["Rung"]; held: Schemas["Holding"] }>();
const open = ref(false);
const reach = ref<ReachChoice>({ ...props.held.reach });
const error = ref<unknown>(null);
const stale = useStale();

async function save(): Promise<void> {
  error.value = null;
  try {
    await must(
      api.POST("/api/v1/directories/{directory}/clients/{client}/consent/reach", {
        params: { path: { directory: directory.value, client: props.client } },
        body: { resource: props.resource, permissions: [props.rung.permission], kind: props.rung.kind, reach: { kind: reach.value.kind, collections: reach.value.collections }, person: props.held.person_id, reason: "" },
      }),
    );
    open.value = false;
    await stale();
  } catch (problem) {
    error.value = problem;
  }
}
</script>

<template>
  <div class="stack">
    <button v-if="!open" type="button" class="link-button small" @click="open = true">Change its reach{{ held.person ? ` for ${held.person}` : "" }}</button>
    <template v-else>
      <ReachEditor v-model="reach" :resource="resource" :label="`Where ${rung.permission} counts${held.person ? ` for ${held.person}` : ''}`" />
      <ProblemNote v-if="error" :error="error" />
      <div class="row"><NButton size="small" @click="open = false">Leave it</NButton><NButton size="small" type="primary" :disabled="reach.kind !== 'everywhere' && !reach.collections.length" @click="save">Set the reach</NButton></div>
    </template>
  </div>
</template>
