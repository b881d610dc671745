<script setup lang="ts">
// Take an ask back. A consent to it stays until it is ended.
import { ref } from "vue";
import { type Schemas, api, must } from "@/api/client";
import { directory } from "@/api/session";
import { useStale } from "@/api/reads/directory";
import ProblemNote from "@/ui/ProblemNote.vue";

const props = defineProps<{ client: string; rung: Schemas["Rung"] }>();
const error = ref<unknown>(null);
const stale = useStale();

async function drop(): Promise<void> {
  error.value = null;
  try {
    await must(
      api.DELETE("/api/v1/directories/{directory}/clients/{client}/asks/{ask}", {
        params: { path: { directory: directory.value, client: props.client, ask: props.rung.ask_id ?? "" } },
      }),
    );
    await stale();
  } catch (problem) {
    error.value = problem;
  }
}
</script>

<template>
  <div>
    <button type="button" class="link-button small" @click="drop">Drop the ask</button>
    <ProblemNote v-if="error" :error="error" />
  </div>
</template>
