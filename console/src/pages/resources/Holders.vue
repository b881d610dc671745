<script setup lang="ts">
// Who can do this: for an operation and, if one likes, one object, all clients and people, and through what.
import { computed, ref, watch } from "vue";
import type { Schemas } from "@/api/client";
import { readHolders, useHolders } from "@/api/reads/resources";
import ExportList from "@/ui/ExportList.vue";
import Choose from "@/ui/forms/Choose.vue";
import Moment from "@/ui/Moment.vue";
import MoreRows from "@/ui/MoreRows.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import { useAttempt } from "@/ui/use/attempt";
import { acting, figure } from "@/ui/use/words";
import { t } from "@/texts/sentences";

const props = defineProps<{ resource: Schemas["Resource"] }>();
const operation = ref<string | null>(null);
const object = ref("");
watch(
  () => props.resource.name,
  () => ((operation.value = null), (object.value = "")),
);
const options = computed(() => props.resource.operations.map((one) => ({ label: `${one.title} (${one.name})`, value: one.name })));
const concerns = computed(() => props.resource.operations.find((one) => one.name === operation.value)?.concerns_object ?? false);
const concerned = computed(() => (concerns.value ? object.value.trim() : ""));
const { data, error } = useHolders(
  () => props.resource.name,
  () => operation.value ?? "",
  concerned,
);
const shown = computed(() =>
  data.value?.resource === props.resource.name && data.value.operation.name === operation.value ? data.value : undefined,
);
// Clients after the first page, and where they end.
const further = ref<Schemas["ClientHolder"][]>([]);
const next = ref<string | null>(null);
const clients = computed(() => [...(shown.value?.clients ?? []), ...further.value]);
const { busy, error: unread, attempt } = useAttempt();
watch(data, () => ((further.value = []), (next.value = data.value?.next ?? null)), { immediate: true });
const read = (cursor: string | undefined) => readHolders(props.resource.name, operation.value ?? "", concerned.value, cursor);
const showMore = () =>
  attempt(async () => {
    const [first, page] = [data.value, await read(next.value ?? undefined)];
    // Something else was asked meanwhile.
    if (first !== data.value) return;
    further.value = [...further.value, ...page.clients];
    next.value = page.next ?? null;
  });
async function exported(cursor: string | undefined) {
  const page = await read(cursor);
  return { items: [...page.clients, ...page.people] as object[], next: page.next, total: page.clients_in_all + page.people_in_all };
}
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
        :aria-label="t`To this ${resource.object_name}`"
        :placeholder="t`to any ${resource.object_name}, or to this one`"
      />
    </div>
    <ProblemNote v-if="error" :error="error" />
    <template v-if="shown && operation">
      <p v-if="shown.object" class="soft">{{ shown.object }} lies in {{ shown.object_in.join(", ") || t`no collection` }}.</p>
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
            <tr v-for="one in clients" :key="`${one.client_id}/${one.kind}/${one.permission}/${one.person}/${one.through}`">
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
              <td class="free reach">
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
              <td class="free reach">{{ one.reach.words }}</td>
            </tr>
            <tr v-if="!shown.people.length">
              <td colspan="3" class="soft">Nobody.</td>
            </tr>
            <tr v-if="shown.people_in_all > shown.people.length">
              <td colspan="3" class="soft">The first {{ figure(shown.people.length) }} of {{ figure(shown.people_in_all) }} are shown.</td>
            </tr>
          </tbody>
        </table>
      </div>
      <MoreRows :shown="clients.length" :more="next !== null" :busy="busy" @more="showMore" />
      <ProblemNote v-if="unread" :error="unread" />
      <ExportList name="holders" what="who can do this" :read="exported" />
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
/* "everywhere" is no word to break. */
td.reach {
  overflow-wrap: break-word;
}
.sides {
  display: grid;
  grid-template-columns: 3fr 2fr;
  gap: var(--s5);
  align-items: start;
}
</style>
