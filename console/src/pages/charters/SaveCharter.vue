<script setup lang="ts">
// Saves what a client is as a charter, for another directory or for a repository.
import { api, must } from "@/api/client";
import { directory } from "@/api/session";
import ProblemNote from "@/ui/ProblemNote.vue";
import { useAttempt } from "@/ui/use/attempt";
import { save } from "@/ui/use/save";
import { t } from "@/texts/sentences";

const props = defineProps<{ client: string; rightsized?: boolean }>();
const { busy, error, attempt } = useAttempt();
const take = () =>
  attempt(async () => {
    const params = { path: { directory: directory.value, client: props.client }, query: { rightsized: !!props.rightsized } };
    const found = await must(api.GET("/api/v1/directories/{directory}/clients/{client}/charter", { params }));
    save(`${found.charter.name.toLowerCase().replace(/[^a-z0-9]+/g, "-")}.toml`, found.file);
  });
</script>

<template>
  <span>
    <button type="button" class="link-button" :disabled="busy" @click="take">
      {{ rightsized ? t`Save the proposal as a charter` : t`Save it as a charter` }}
    </button>
    <ProblemNote v-if="error" :error="error" />
  </span>
</template>
