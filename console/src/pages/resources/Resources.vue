<script setup lang="ts">
// A catalogue as a matrix: operations down, permissions across, a mark where one unlocks the other, lighter where it
// comes by implication.
import { NButton } from "naive-ui";
import { computed, ref, watch } from "vue";
import { useRoute, useRouter } from "vue-router";
import { can } from "@/api/session";
import { useResource, useResources } from "@/api/reads/resources";
import CopyButton from "@/ui/CopyButton.vue";
import Loadable from "@/ui/Loadable.vue";
import Moment from "@/ui/Moment.vue";
import PageHead from "@/ui/PageHead.vue";
import FindSome from "@/ui/forms/FindSome.vue";
import { useSome } from "@/ui/use/some";
import { plural } from "@/texts/plural";
import { figure } from "@/ui/use/words";
import Collections from "./Collections.vue";
import Publish from "./Publish.vue";
import Holders from "./Holders.vue";
import { useTitle } from "@/ui/use/title";
import { t } from "@/texts/sentences";
import { listed } from "@/texts/listed";

const route = useRoute();
const router = useRouter();
const { data: all, error, isLoading, refetch } = useResources();
const name = computed(() => String(route.params.name ?? ""));
const { data: catalogue, error: catalogueError, refetch: again } = useResource(name);
watch(
  [all, name],
  () => {
    const first = all.value?.find((one) => one.name !== "jamb") ?? all.value?.[0];
    if (!name.value && first) void router.replace({ name: "resources", params: { name: first.name } });
  },
  { immediate: true },
);
const shown = computed(() => (catalogue.value?.name === name.value ? catalogue.value : undefined));
useTitle(t`Resource`, () => shown.value?.title);
const editing = ref("");
watch(name, () => (editing.value = editing.value === "new" ? "new" : ""));
function published(made: string): void {
  editing.value = "";
  void router.push({ name: "resources", params: { name: made } });
}
// A large one is looked into: so many operations at once, beside the permissions that open them; where these are many,
// the smallest ones by name.
const ROWS = 50;
const COLUMNS = 10;
const NAMES = 3;
const {
  wanted,
  shown: operations,
  found,
} = useSome(
  () => shown.value?.operations,
  (one) => `${one.name} ${one.title} ${one.path} ${permissionsOf(one.name)}`,
  ROWS,
);
watch(
  () => route.query.find,
  (find) => (wanted.value = typeof find === "string" ? find : ""),
  { immediate: true },
);
const permissionsOf = (operation: string) =>
  (shown.value?.permissions ?? [])
    .filter((one) => one.unlocks.includes(operation))
    .map((one) => one.name)
    .join(" ");
const columns = computed(() => {
  const here = new Set(operations.value.map((one) => one.name));
  return (shown.value?.permissions ?? []).filter((one) => one.opens.some((name) => here.has(name)));
});
const many = computed(() => columns.value.length > COLUMNS);
/** The permissions that unlock an operation themselves, those that open least else first. */
const openers = (operation: string) =>
  columns.value.filter((one) => one.unlocks.includes(operation)).sort((one, other) => one.opens.length - other.opens.length);
const {
  wanted: ofPermissions,
  shown: permissions,
  found: foundPermissions,
  all: allPermissions,
} = useSome(
  () => shown.value?.permissions,
  (one) => `${one.name} ${one.title}`,
);
const mark = (operation: string, permission: { unlocks: string[]; opens: string[] }) =>
  permission.unlocks.includes(operation) ? t`unlocks` : permission.opens.includes(operation) ? t`implied` : "";
</script>

<template>
  <PageHead title="Resources" :count="all ? String(all.length) : ''" lead="What each API can do, and which permission unlocks it">
    <template v-if="can('resources.publish')">
      <NButton
        v-if="shown && shown.name !== 'jamb'"
        :aria-expanded="editing === 'change'"
        @click="editing = editing === 'change' ? '' : 'change'"
        >{{ editing === "change" ? t`Cancel` : t`Change ${shown.title}` }}</NButton
      >
      <NButton :aria-expanded="editing === 'new'" @click="editing = editing === 'new' ? '' : 'new'">{{
        editing === "new" ? t`Cancel` : t`Publish a resource`
      }}</NButton>
    </template>
  </PageHead>
  <Publish v-if="editing === 'new'" @done="published" />
  <Loadable :loading="isLoading" :error="error ?? catalogueError" :ready="!!all" :retry="() => (refetch(), again())">
    <nav class="row switches places" aria-label="Resources">
      <RouterLink
        v-for="one in all"
        :key="one.name"
        :to="{ name: 'resources', params: { name: one.name } }"
        :aria-current="one.name === name ? 'page' : undefined"
        >{{ one.title }}</RouterLink
      >
    </nav>
    <template v-if="shown">
      <p class="ids">
        <code>{{ shown.identifier }}</code> <CopyButton :value="shown.identifier" what="identifier" />{{ " " }}
        <span v-if="shown.object_name" class="soft">its objects: {{ plural(shown.object_name) }}</span
        >{{ " " }}
        <span v-if="shown.address" class="soft"
          >answers at <code>{{ shown.address }}</code></span
        >
      </p>
      <Publish v-if="editing === 'change'" :key="shown.name" :resource="shown" @done="editing = ''" />
      <FindSome
        v-model="wanted"
        label="Find an operation or permission"
        :shown="operations.length"
        :found="found"
        :all="shown.operations.length"
      />
      <div class="scroll" tabindex="0" role="region" :aria-label="t`Operations of ${shown.title} by permission`">
        <table class="log">
          <thead>
            <tr>
              <th scope="col">Operation</th>
              <th scope="col">Effect</th>
              <th scope="col">Data</th>
              <th scope="col" class="num">Weight</th>
              <th v-if="many" scope="col">Unlocked by <span class="soft">(the smallest first)</span></th>
              <template v-else>
                <th v-for="one in columns" :key="one.name" scope="col" class="permission">
                  <code>{{ one.name }}</code>
                </th>
              </template>
            </tr>
          </thead>
          <tbody>
            <tr v-for="operation in operations" :key="operation.name">
              <th scope="row">
                {{ operation.title }} <code class="request">{{ operation.method }} {{ operation.path }}</code>
              </th>
              <td>{{ listed(operation.effect) }}</td>
              <td>{{ listed(operation.data_class) }}</td>
              <td class="num">{{ operation.weight }}</td>
              <td v-if="many" class="openers">
                <code v-for="one in openers(operation.name).slice(0, NAMES)" :key="one.name">{{ one.name }}</code>
                <span v-if="openers(operation.name).length > NAMES" class="soft small"
                  >and {{ figure(openers(operation.name).length - NAMES) }} more</span
                >
              </td>
              <template v-else>
                <td v-for="one in columns" :key="one.name" class="mark" :class="mark(operation.name, one)">
                  <template v-if="mark(operation.name, one) === 'unlocks'"
                    ><span aria-hidden="true">●</span><span class="visually-hidden">unlocks</span></template
                  >
                  <template v-else-if="mark(operation.name, one) === 'implied'"
                    ><span aria-hidden="true">○</span><span class="visually-hidden">by implication</span></template
                  >
                </td>
              </template>
            </tr>
          </tbody>
        </table>
      </div>
      <p v-if="shown.uncounted_until" class="waits">
        Between <Moment :at="shown.uncounted_since" /> and <Moment :at="shown.uncounted_until" /> its guard could not count all calls. The
        audit calls nothing here unused until the policy’s observation days have passed.
      </p>
      <p class="soft small key">
        <template v-if="!many">● unlocks it &nbsp; ○ comes by implication &nbsp; </template>weight: effect (read 1, write 3, control 9)
        times data (open 1, internal 2, personal 4, restricted 8)
      </p>
      <h2>Permissions</h2>
      <FindSome
        v-model="ofPermissions"
        label="Find a permission"
        :shown="permissions.length"
        :found="foundPermissions"
        :all="allPermissions"
      />
      <table class="log">
        <thead>
          <tr>
            <th scope="col">Permission</th>
            <th scope="col">Held as</th>
            <th scope="col">Implies</th>
            <th scope="col">Opens in all</th>
            <th scope="col" class="num">Weight</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="one in permissions" :key="one.name">
            <td class="free">
              <code>{{ one.name }}</code>
              <div class="soft small">
                {{ one.title }}<template v-if="one.text">. {{ one.text }}</template>
              </div>
            </td>
            <td>
              {{ one.kinds.join(", ") }}
              <div v-if="one.consent_by === 'person'" class="soft small">people may consent</div>
            </td>
            <td>
              <code v-if="one.implies.length">{{ one.implies.join(", ") }}</code><span v-else class="soft">nothing</span>
            </td>
            <td>{{ one.opens.length }} of {{ shown.operations.length }} operations</td>
            <td class="num">{{ one.weight }}</td>
          </tr>
        </tbody>
      </table>
      <Holders v-if="can('holders.read')" :resource="shown" />
      <Collections v-if="shown.object_name && shown.name !== 'jamb'" :resource="shown.name" :object-name="shown.object_name" />
    </template>
  </Loadable>
</template>

<style scoped>
.places {
  margin-top: 0;
  border-top: 2px solid var(--ink);
  border-bottom: 1px solid var(--line-strong);
  padding: var(--s2) 0;
  gap: var(--s2);
}
.ids {
  margin: var(--s3) 0;
  display: flex;
  gap: var(--s2);
  align-items: center;
}
.scroll {
  /* So that visually hidden words of cells widen nothing but this. */
  position: relative;
  overflow-x: auto;
}
.scroll th,
.scroll td {
  white-space: nowrap;
}
.request {
  display: block;
  font-weight: 400;
  color: var(--ink-soft);
}
.scroll td.openers {
  min-width: 260px;
  white-space: normal;
}
.openers code {
  display: inline-block;
  margin-right: var(--s2);
}
.permission {
  text-align: center;
}
tbody th {
  vertical-align: baseline;
  text-align: left;
  padding: 6px var(--s3);
  border-bottom: 1px solid var(--line);
  font-weight: 560;
  white-space: nowrap;
  font-size: var(--t-body);
  color: var(--ink);
}
td code {
  white-space: nowrap;
}
.mark {
  text-align: center;
}
.mark.unlocks {
  color: var(--bar-used);
}
.mark.implied {
  color: var(--bar-granted);
}
.key {
  margin: var(--s2) 0 var(--s5);
}
h2 {
  margin-bottom: var(--s2);
}
</style>
