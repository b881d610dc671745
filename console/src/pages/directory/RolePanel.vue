<script setup lang="ts">
// A custom role: a name and the permissions of one resource that it bundles.
import { NButton, NCheckbox } from "naive-ui";
import { computed, ref, watch } from "vue";
import { api, must } from "@/api/client";
import { directory } from "@/api/session";
import { useStale } from "@/api/reads/directory";
import { useResource, useResources } from "@/api/reads/resources";
import Choose from "@/ui/forms/Choose.vue";
import { useAttempt } from "@/ui/use/attempt";
import ProblemNote from "@/ui/ProblemNote.vue";
import TextField from "@/ui/forms/TextField.vue";

const emit = defineEmits<{ done: [] }>();
const name = ref("");
const title = ref("");
const resource = ref<string | null>(null);
const chosen = ref<string[]>([]);
const { busy, error, attempt } = useAttempt();
const stale = useStale();
const { data: resources } = useResources();
const { data: catalogue } = useResource(() => resource.value ?? "");
const places = computed(() => (resources.value ?? []).map((one) => ({ label: one.title, value: one.name })));
watch(resource, () => (chosen.value = []));

const save = () =>
  attempt(async () => {
    await must(
      api.PUT("/api/v1/directories/{directory}/roles/{role}", {
        // A role of that name is changed by nobody who meant to make one.
        params: { path: { directory: directory.value, role: name.value.trim() }, header: { "If-None-Match": "*" } },
        body: { title: title.value, resource: resource.value ?? "", permissions: chosen.value },
      }),
    );
    await stale();
    emit("done");
  });
</script>

<template>
  <form class="stack" @submit.prevent="save">
    <div class="two">
      <TextField v-model="name" label="Name" hint="lower-case words joined by hyphens" :longest="60" />
      <TextField v-model="title" label="Title" :longest="200" />
    </div>
    <Choose v-model="resource" :options="places" label="Resource" placeholder="Resource" />
    <ul v-if="catalogue && resource">
      <li v-for="one in catalogue.permissions" :key="one.name">
        <NCheckbox
          :checked="chosen.includes(one.name)"
          @update:checked="(on: boolean) => (chosen = on ? [...chosen, one.name] : chosen.filter((other) => other !== one.name))"
          ><code>{{ one.name }}</code> {{ one.title }} <span class="soft small">weight {{ one.weight }}</span></NCheckbox
        >
      </li>
    </ul>
    <ProblemNote v-if="error" :error="error" />
    <div>
      <NButton type="primary" attr-type="submit" :disabled="busy || !name.trim() || !chosen.length">Save the role</NButton>
    </div>
  </form>
</template>

<style scoped>
.two {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: var(--s4);
}
</style>
