<script setup lang="ts">
// People, groups and roles: who belongs where, and who holds what at which places.
import { NButton } from "naive-ui";
import { computed, ref, watch } from "vue";
import { useRoute, useRouter } from "vue-router";
import { type Schemas, api, must } from "@/api/client";
import { can, directory } from "@/api/session";
import { offer } from "@/api/undo";
import { readHolders, readPeople, useGroups, usePeople, useRoles, useStale } from "@/api/reads/directory";
import ExportList from "@/ui/ExportList.vue";
import Loadable from "@/ui/Loadable.vue";
import MoreRows from "@/ui/MoreRows.vue";
import PageHead from "@/ui/PageHead.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import StateWord from "@/ui/StateWord.vue";
import FindSome from "@/ui/forms/FindSome.vue";
import FindWord from "@/ui/forms/FindWord.vue";
import { askFirst } from "@/ui/use/ask";
import { useSome } from "@/ui/use/some";
import { count, figure, isolated } from "@/ui/use/words";
import AddPeople from "./AddPeople.vue";
import AssignPanel from "./AssignPanel.vue";
import GroupPanel from "./GroupPanel.vue";
import LinkPanel from "./LinkPanel.vue";
import RolePanel from "./RolePanel.vue";
import { t } from "@/texts/sentences";

const route = useRoute();
const router = useRouter();
const word = ref("");
const { items: people, total, error, isLoading, refetch, hasNextPage, isFetchingNextPage, fetchNextPage } = usePeople(word);
const { data: groups, refetch: groupsAgain } = useGroups();
const { data: roles, error: rolesError, refetch: rolesAgain } = useRoles();
const stale = useStale();
const failed = ref<unknown>(null);
const {
  wanted: ofGroups,
  shown: someGroups,
  found: foundGroups,
  all: allGroups,
} = useSome(
  () => groups.value,
  (one) => `${one.name} ${one.title}`,
);
// Whoever was found elsewhere stands alone here.
watch(
  () => route.query,
  (query) => {
    word.value = typeof query.person === "string" ? query.person : "";
    ofGroups.value = typeof query.group === "string" ? query.group : "";
  },
  { immediate: true },
);
// Of many holders the first; whoever wants the others opens them.
const HOLDERS = 12;
const opened = ref<Record<string, Schemas["Assignment"][]>>({});
const holders = (role: Schemas["Role"]) => opened.value[role.name] ?? role.holders.slice(0, HOLDERS);
const openHolders = (role: Schemas["Role"]) =>
  change(async () => {
    opened.value = { ...opened.value, [role.name]: await readHolders(role.name) };
  }, false);
const adding = ref(false);
const open = computed(() => String(route.query.open ?? ""));
const show = (what: string) => void router.replace({ query: open.value === what ? {} : { open: what }, hash: route.hash });
const byResource = computed(() => {
  const found = new Map<string, Schemas["Role"][]>();
  const only = typeof route.query.role === "string" ? route.query.role : "";
  for (const role of (roles.value ?? []).filter((one) => !only || one.name === only))
    found.set(role.resource, [...(found.get(role.resource) ?? []), role]);
  return [...found];
});

async function change(call: () => Promise<unknown>, changed = true): Promise<void> {
  failed.value = null;
  try {
    await call();
    if (!changed) return;
    // Who holds what was opened may be another now.
    opened.value = {};
    await stale();
  } catch (problem) {
    failed.value = problem;
  }
}
const alter = (person: Schemas["Person"], body: Partial<Schemas["PersonChange"]>) =>
  change(() =>
    must(
      api.POST("/api/v1/directories/{directory}/people/{person}", {
        params: { path: { directory: directory.value, person: person.id } },
        body: { no_second_factor: false, no_provider: false, ...body },
      }),
    ),
  );
const setActive = async (person: Schemas["Person"], active: boolean) => {
  const sure =
    active ||
    (await askFirst({
      title: t`Make ${isolated(person.name)} inactive?`,
      text: t`They are signed out everywhere and cannot sign in, and what applications do for them ends. The clients they own go on working; the audit lists those that nobody else owns.`,
      yes: t`Make ${isolated(person.name)} inactive`,
    }));
  if (!sure) return;
  await alter(person, { active });
};
const takeOff = (person: Schemas["Person"]) => alter(person, { no_second_factor: true });
const endLink = async (person: Schemas["Person"]) => {
  const by = person.providers?.join(", ") ?? "";
  const sure = await askFirst({
    title: t`End the link of ${isolated(person.name)} to ${by}?`,
    text: t`They are signed out, and what applications do for them ends. Whoever signs in there next with the mail address ${person.login} is ${isolated(person.name)} here from then on.`,
    yes: t`End the link`,
  });
  if (!sure) return;
  await alter(person, { no_provider: true });
};
const withdraw = async (role: Schemas["Role"], held: Schemas["Assignment"]) => {
  const sure = await askFirst({
    title: t`Withdraw ${role.name} from ${isolated(held.name)}?`,
    text: t`They can no longer do what it opens (${count(role.opens, "operation")} at ${role.resource}, ${held.reach.words}), unless something else opens it. Tokens from before are refused within seconds.`,
    yes: t`Withdraw the role`,
  });
  if (!sure) return;
  const path = { directory: directory.value, role: role.name };
  await change(async () => {
    await must(
      api.POST("/api/v1/directories/{directory}/roles/{role}/assignments/withdrawal", {
        params: { path },
        body: { kind: held.kind, holders: [held.id] },
      }),
    );
    const { kind, collections } = held.reach;
    offer({
      said: t`You withdrew ${role.name} from ${held.name}.`,
      path: `/api/v1/directories/${directory.value}/roles/${encodeURIComponent(role.name)}/assignments`,
      body: { kind: held.kind, holders: [held.id], reach: { kind, collections }, expires_at: held.expires_at },
    });
  });
};
</script>

<template>
  <PageHead title="People" :count="total === null ? '' : figure(total)" lead="Who belongs to what, and which roles they hold where">
    <NButton v-if="can('people.add')" :aria-expanded="adding" @click="adding = !adding">{{ adding ? t`Cancel` : t`Add people` }}</NButton>
  </PageHead>
  <Loadable
    :loading="isLoading"
    :error="error ?? rolesError"
    :ready="total !== null && !!groups && !!roles"
    :lines="16"
    :retry="() => (refetch(), groupsAgain(), rolesAgain())"
  >
    <div v-if="adding" class="card"><AddPeople @done="adding = false" /></div>
    <ProblemNote v-if="failed" :error="failed" />
    <div class="columns">
      <section aria-labelledby="people-title">
        <div class="part-head"><h2 id="people-title">People</h2></div>
        <FindWord v-model="word" label="Find a person" :shown="people.length" :total="total" />
        <table class="log">
          <thead>
            <tr>
              <th scope="col" class="who">Name</th>
              <th scope="col">Groups</th>
              <th scope="col">State</th>
            </tr>
          </thead>
          <tbody>
            <template v-for="one in people" :key="one.id">
              <tr>
                <td class="free">
                  {{ one.name }}
                  <div class="soft small">{{ one.login }}</div>
                  <div v-if="one.roles.length" class="soft small">{{ one.roles.join(", ") }}</div>
                </td>
                <td class="free">{{ one.groups?.join(", ") || "–" }}</td>
                <td class="nowrap">
                  <StateWord :tone="one.active ? 'live' : 'gone'" :word="one.active ? t`active` : t`inactive`" />
                  <div v-if="can('people.change')">
                    <button
                      type="button"
                      class="link-button small"
                      :aria-label="`${one.active ? t`make inactive` : t`make active`}: ${one.name}`"
                      @click="setActive(one, !one.active)"
                    >
                      {{ one.active ? t`make inactive` : t`make active` }}
                    </button>
                  </div>
                  <div v-if="one.second_factor">
                    <div class="soft small">has a second factor</div>
                    <button
                      v-if="can('people.change')"
                      type="button"
                      class="link-button small"
                      :aria-label="t`Take the second factor off: ${one.name}`"
                      :aria-expanded="open === `factor:${one.id}`"
                      @click="show(`factor:${one.id}`)"
                    >
                      take the second factor off
                    </button>
                  </div>
                  <div v-if="one.providers?.length">
                    <div class="soft small words">signs in by {{ one.providers.join(", ") }}</div>
                    <button
                      v-if="can('people.change')"
                      type="button"
                      class="link-button small"
                      :aria-label="t`End the link to the provider: ${one.name}`"
                      @click="endLink(one)"
                    >
                      end the link
                    </button>
                  </div>
                  <div v-if="can('people.link') && one.active">
                    <button
                      type="button"
                      class="link-button small"
                      :aria-label="t`Sign-in link for ${one.name}`"
                      :aria-expanded="open === `link:${one.id}`"
                      @click="show(`link:${one.id}`)"
                    >
                      sign-in link
                    </button>
                  </div>
                </td>
              </tr>
              <tr v-if="open === `factor:${one.id}`">
                <td colspan="3">
                  <div class="row">
                    {{ one.name }} lost it? They sign in with their password alone, until they set one up again.
                    <NButton size="small" @click="show(open)">Cancel</NButton>
                    <NButton size="small" type="error" @click="takeOff(one)">Take it off</NButton>
                  </div>
                </td>
              </tr>
              <tr v-if="open === `link:${one.id}`">
                <td colspan="3"><LinkPanel :person="one" @done="show(open)" /></td>
              </tr>
            </template>
          </tbody>
        </table>
        <MoreRows :shown="people.length" :more="!!hasNextPage" :busy="isFetchingNextPage" @more="fetchNextPage()" />
        <ExportList
          name="people"
          :what="word ? t`who matches` : t`all people`"
          :read="(cursor) => readPeople({ q: word, cursor, limit: 100 })"
        />
      </section>
      <section aria-labelledby="groups-title">
        <div class="part-head">
          <h2 id="groups-title">Groups</h2>
          <NButton v-if="can('groups.save')" size="small" :aria-expanded="open === 'group:'" @click="show('group:')">{{
            open === "group:" ? t`Cancel` : t`Make a group`
          }}</NButton>
        </div>
        <div v-if="open === 'group:'" class="card">
          <GroupPanel :groups="groups ?? []" @done="show(open)" />
        </div>
        <FindSome v-model="ofGroups" label="Find a group" :shown="someGroups.length" :found="foundGroups" :all="allGroups" />
        <p v-if="!groups?.length" class="soft">No groups yet.</p>
        <table v-else class="log">
          <thead>
            <tr>
              <th scope="col">Group</th>
              <th scope="col">Members</th>
              <th scope="col" class="num">All</th>
            </tr>
          </thead>
          <tbody>
            <template v-for="group in someGroups" :key="group.name">
              <tr>
                <td class="free">
                  <button
                    v-if="can('groups.save')"
                    type="button"
                    class="link-button"
                    :aria-expanded="open === `group:${group.name}`"
                    @click="show(`group:${group.name}`)"
                  >
                    {{ group.title }}</button><template v-else>{{ group.title }}</template>
                  <div class="nowrap">
                    <code class="soft">{{ group.name }}</code>
                  </div>
                </td>
                <td class="free">
                  {{ [...group.people.map((one) => one.name), ...group.groups.map((name) => t`all of ${name}`)].join(", ") || t`nobody` }}
                </td>
                <td class="num">{{ group.everyone }}</td>
              </tr>
              <tr v-if="open === `group:${group.name}`">
                <td colspan="3">
                  <GroupPanel :groups="groups ?? []" :group="group" @done="show(open)" />
                </td>
              </tr>
            </template>
          </tbody>
        </table>
      </section>
    </div>

    <section aria-labelledby="roles-title">
      <div class="part-head">
        <h2 id="roles-title">Roles <span class="soft small">bundles of permissions, and who holds them where</span></h2>
        <NButton v-if="can('roles.save')" size="small" :aria-expanded="open === 'role:'" @click="show('role:')">{{
          open === "role:" ? t`Cancel` : t`Make a role`
        }}</NButton>
      </div>
      <p v-if="route.query.role">
        Only <code>{{ route.query.role }}</code> is shown. <RouterLink :to="{ name: 'people' }">Show all roles</RouterLink>
      </p>
      <div v-if="open === 'role:'" class="card"><RolePanel @done="show(open)" /></div>
      <table class="log roles">
        <thead>
          <tr>
            <th scope="col">Role</th>
            <th scope="col">Bundles</th>
            <th scope="col" class="num">Weight</th>
            <th scope="col">Held by, and where</th>
          </tr>
        </thead>
        <tbody v-for="[resource, here] in byResource" :key="resource">
          <tr>
            <th colspan="4" scope="rowgroup" class="place">{{ resource === "jamb" ? t`Jamb itself` : resource }}</th>
          </tr>
          <template v-for="role in here" :key="role.name">
            <tr>
              <td class="free">
                <strong>{{ role.name }}</strong>
                <div class="soft small">{{ role.title }}<template v-if="role.shipped">; shipped</template></div>
                <StateWord v-if="role.everything" tone="wait" word="opens everything there" />
              </td>
              <td class="free">
                <code>{{ role.permissions.join(", ") }}</code>
                <div class="soft small">{{ count(role.opens, "operation") }}</div>
              </td>
              <td class="num">{{ role.weight }}</td>
              <td class="free">
                <p v-if="!role.holders.length" class="soft">nobody</p>
                <ul>
                  <li v-for="held in holders(role)" :key="`${held.kind}/${held.id}`">
                    <template v-if="held.kind === 'group'">all of </template
                    ><RouterLink v-if="held.kind === 'client'" :to="{ name: 'dossier', params: { id: held.id } }">{{
                      held.name
                    }}</RouterLink
                    ><template v-else>{{ held.name }}</template
                    ><span v-if="held.kind === 'client'" class="soft small"> (client)</span>,
                    {{ held.reach.words }}
                    <button
                      v-if="can('roles.withdraw')"
                      type="button"
                      class="link-button small"
                      :aria-label="t`Withdraw ${role.name} from ${held.name}`"
                      @click="withdraw(role, held)"
                    >
                      withdraw
                    </button>
                  </li>
                </ul>
                <button
                  v-if="role.holders_in_all > holders(role).length"
                  type="button"
                  class="link-button small"
                  @click="openHolders(role)"
                >
                  and {{ figure(role.holders_in_all - holders(role).length) }} more
                </button>
                <button
                  v-if="can('roles.assign')"
                  type="button"
                  class="link-button small"
                  :aria-expanded="open === `assign:${role.name}`"
                  @click="show(`assign:${role.name}`)"
                >
                  {{ open === `assign:${role.name}` ? t`cancel` : t`assign` }}<span class="visually-hidden"> {{ role.name }}</span>
                </button>
              </td>
            </tr>
            <tr v-if="open === `assign:${role.name}`">
              <td colspan="4">
                <AssignPanel :role="role" :groups="groups ?? []" @done="show(open)" />
              </td>
            </tr>
          </template>
        </tbody>
      </table>
    </section>
  </Loadable>
</template>

<style scoped>
/* A login is read whole. */
.who {
  width: 54%;
}
.columns {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: var(--s5);
  margin: var(--s4) 0 var(--s5);
}
section {
  display: grid;
  gap: var(--s2);
  align-content: start;
  min-width: 0;
}
.part-head {
  display: flex;
  justify-content: space-between;
  align-items: center;
}
.nowrap {
  white-space: nowrap;
}
/* The title of a provider may be long. */
.words {
  white-space: normal;
}
table.roles {
  table-layout: fixed;
}
.roles th:nth-child(1) {
  width: 24%;
}
.roles th:nth-child(2) {
  width: 32%;
}
.roles th:nth-child(3) {
  width: 70px;
}
table.log th.place {
  color: var(--ink);
  font-weight: 640;
  font-size: var(--t-body);
  padding-top: var(--s3);
}
.link-button {
  text-transform: none;
}
</style>
