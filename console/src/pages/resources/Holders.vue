<script setup lang="ts">
// Who can do this: for an operation and, if one likes, one object, all clients and people, and through what.
import { computed, ref, watch } from "vue";
import type { Schemas } from "@/api/client";
import { useHolders } from "@/api/reads/resources";
import ExportList from "@/ui/ExportList.vue";
import Choose from "@/ui/forms/Choose.vue";
import Moment from "@/ui/Moment.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import { whole } from "@/ui/use/export";
import { acting } from "@/ui/use/words";

const props = defineProps<{ resource: Schemas["Resource"] }>();
const operation = ref<string | null>(null);
const object = ref("");
watch(
  () => props.resource.name,
  () => ((operation.value = null), (object.value = "")),
);
const options = computed(() => props.resource.operations.map((one) => ({ label: `${one.title} (${one.name})`, value: one.name })));
const concerns = computed(() => props.resource.operations.find((one) => one.name === operation.value)?.concerns_object ?? false);
const { data, error } = useHolders(
  () => props.resource.name,
  () => operation.value ?? "",
  () => (concerns.value ? object.value.trim() : ""),
);
const shown = computed(() =>
  data.value?.resource === props.resource.name && data.value.operation.name === operation.value ? data.value : undefined,
);
</script>

<template>
  <section aria-labelledby="who">
    <h2 id="who">Who can do this?</h2>
    <div class="pick">
      <Choose v-model="operation" :options="options" label="Operation that somebody can do" placeholder="Operation" />
      <input
        v-if="concerns"
        v-model.lazy="object"
        class="plain-input"
        type="search"
        :aria-label="`To this ${resource.object_name}`"
        :placeholder="`to any ${resource.object_name}, or to this one`"
      />
    </div>
    <ProblemNote v-if="error" :error="error" />
    <template v-if="shown && operation">
      <p v-if="shown.object" class="soft">{{ shown.object }} lies in {{ shown.object_in.join(", ") || "no collection" }}.</p>
      <div class="sides">
        <table class="log">
          <caption class="visually-hidden">
            Clients that can do it
          </caption>
          <thead>
            <tr>
              <th scope="col">Client</th>
              <th scope="col">Acting</th>
              <th scope="col">By</th>
              <th scope="col">Reach</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="one in shown.clients" :key="`${one.client_id}/${one.kind}/${one.permission}/${one.person}/${one.through}`">
              <td class="free">
                <RouterLink :to="{ name: 'dossier', params: { id: one.client_id } }">{{ one.client_name }}</RouterLink><span
                  v-if="!one.live"
                  class="soft"
                >
                  (disabled)</span
                >
              </td>
              <td class="free">{{ acting(one.kind, one.person) }}</td>
              <td class="free">
                <code>{{ one.through || one.permission }}</code>
              </td>
              <td class="free">
                {{ one.reach.words }}<template v-if="one.expires_at">, until <Moment :at="one.expires_at" /></template>
              </td>
            </tr>
            <tr v-if="!shown.clients.length">
              <td colspan="4" class="soft">No client.</td>
            </tr>
          </tbody>
        </table>
        <table class="log">
          <caption class="visually-hidden">
            People that can do it
          </caption>
          <thead>
            <tr>
              <th scope="col">Person</th>
              <th scope="col">Role</th>
              <th scope="col">Reach</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="one in shown.people" :key="`${one.login}/${one.role}/${one.through}`">
              <td class="free">{{ one.name }}</td>
              <td class="free">
                {{ one.role }}<span v-if="one.through" class="soft"> through {{ one.through }}</span>
              </td>
              <td class="free">{{ one.reach.words }}</td>
            </tr>
            <tr v-if="!shown.people.length">
              <td colspan="3" class="soft">Nobody.</td>
            </tr>
          </tbody>
        </table>
      </div>
      <ExportList name="holders" what="who can do this" :read="() => whole<object>([...shown!.clients, ...shown!.people])" />
      <p class="soft small">A client that acts for a person can do it only where both can.</p>
    </template>
  </section>
</template>

<style scoped>
section {
  display: grid;
  gap: var(--s2);
  margin-top: var(--s5);
}
.pick {
  display: grid;
  grid-template-columns: 380px 260px;
  gap: var(--s3);
}
.sides {
  display: grid;
  grid-template-columns: 3fr 2fr;
  gap: var(--s5);
  align-items: start;
}
</style>
