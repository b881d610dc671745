<script setup lang="ts">
// Rotation: what is due, what is in overlap and who still uses the old one, what is overdue, and what was done lately.
import { NButton } from "naive-ui";
import { computed, ref } from "vue";
import { useRoute, useRouter } from "vue-router";
import { can } from "@/api/session";
import { readDue, useDue, useRotations } from "@/api/reads/credentials";
import ExportList from "@/ui/ExportList.vue";
import Loadable from "@/ui/Loadable.vue";
import Moment from "@/ui/Moment.vue";
import PageHead from "@/ui/PageHead.vue";
import { ago, now } from "@/ui/use/times";
import Forecast from "./Forecast.vue";
import OpenDue from "./OpenDue.vue";
import RotationPart from "./RotationPart.vue";
import { t } from "@/texts/sentences";
import { count } from "@/ui/use/words";

const route = useRoute();
const router = useRouter();
const WITHIN = [14, 30, 60, 90];
const within = computed(() => (WITHIN.includes(Number(route.query.within)) ? Number(route.query.within) : 30));
const { data, error, isLoading, refetch, hasNextPage, fetchNextPage } = useDue(within);
const open = useRotations(false);
const past = useRotations(true);
const opening = ref(false);
const held = ref(false);
const chosen = ref(new Set<string>());
const due = computed(() => (data.value?.pages ?? []).flatMap((page) => page.items));
const underWay = computed(() => (open.data.value?.pages ?? []).flatMap((page) => page.items));
const ended = computed(() => (past.data.value?.pages ?? []).flatMap((page) => page.items));
const inState = (...states: string[]) => underWay.value.filter((one) => states.includes(one.state));
const more = (known: number, next: boolean | undefined) => `${known}${next ? "+" : ""}`;
const picked = computed(() => due.value.filter((one) => chosen.value.has(one.credential.id)));
function choose(id: string, on: boolean): void {
  const next = new Set(chosen.value);
  if (on) next.add(id);
  else next.delete(id);
  chosen.value = next;
}
function done(): void {
  opening.value = held.value = false;
  chosen.value = new Set();
}
</script>

<template>
  <PageHead
    title="Rotation"
    :count="
      data && open.data.value ? t`${more(due.length, hasNextPage)} due, ${more(underWay.length, open.hasNextPage.value)} under way` : ''
    "
    lead="Each credential is followed by another before it ends; both are valid until nothing uses the old one"
  >
    <NButton v-if="can('rotations.open') && picked.length && !opening" type="primary" @click="opening = true"
      >Open {{ count(picked.length, "rotation") }}</NButton
    >
    <template #below>
      <nav class="row switches" aria-label="Due within">
        <span class="soft small">Due within</span>
        <RouterLink
          v-for="days in WITHIN"
          :key="days"
          :to="{ query: { within: days } }"
          :aria-current="within === days ? 'page' : undefined"
          >{{ days }} days</RouterLink
        >
      </nav>
    </template>
  </PageHead>
  <OpenDue v-if="opening" :due="picked" @opened="held = true" @closed="done" />
  <div v-show="!held">
    <Loadable
      :loading="isLoading || open.isLoading.value"
      :error="error ?? open.error.value"
      :ready="!!data && !!open.data.value"
      :lines="14"
      :retry="refetch"
    >
      <RotationPart
        title="Overdue"
        hint="the overlap is over and the old one is not quiet: find what still uses it, extend, or force"
        late
        :rotations="inState('overdue')"
      />
      <RotationPart title="Ready to close" hint="nothing uses the old one any more" :rotations="inState('quiet')" />
      <section v-if="due.length" aria-labelledby="due">
        <h2 id="due">
          Due <span class="soft small">they expire within {{ within }} days and nothing follows them yet</span>
        </h2>
        <table class="log">
          <thead>
            <tr>
              <th scope="col"><span class="visually-hidden">Choose</span></th>
              <th scope="col">Client</th>
              <th scope="col">Credential</th>
              <th scope="col">Ends</th>
              <th scope="col">Last used</th>
              <th scope="col">If opened now, both stand until</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="one in due" :key="one.credential.id">
              <td>
                <input
                  v-if="can('rotations.open')"
                  type="checkbox"
                  :disabled="opening"
                  :aria-label="t`Choose ${one.client_name}, ${one.credential.hint}`"
                  :checked="chosen.has(one.credential.id)"
                  @change="choose(one.credential.id, ($event.target as HTMLInputElement).checked)"
                />
              </td>
              <td class="free">
                <RouterLink :to="{ name: 'dossier', params: { id: one.client_id }, hash: '#credentials' }">{{
                  one.client_name
                }}</RouterLink>
              </td>
              <td>
                <code class="hint-code">{{ one.credential.hint }}</code>
                <div v-if="one.credential.label" class="soft small">{{ one.credential.label }}</div>
              </td>
              <td class="nowrap"><Moment :at="one.credential.expires_at" /></td>
              <td class="nowrap"><Moment :at="one.credential.last_used_at" /></td>
              <td class="nowrap">{{ ago(one.overlap_ends_at, now) }}</td>
            </tr>
          </tbody>
        </table>
        <p v-if="hasNextPage">
          <button type="button" class="link-button" @click="fetchNextPage()">Show more that are due</button>
        </p>
        <ExportList name="due" what="all that are due" :read="(cursor) => readDue(within, cursor)" />
      </section>
      <RotationPart title="In overlap" hint="both are valid" :rotations="inState('opened', 'proven')" />
      <p v-if="open.hasNextPage.value">
        <button type="button" class="link-button" @click="open.fetchNextPage()">Show more that are under way</button>
      </p>
      <RotationPart title="Done lately" hint="in the last thirty days" ended :rotations="ended" />
      <p v-if="past.hasNextPage.value">
        <button type="button" class="link-button" @click="past.fetchNextPage()">Show more that are done</button>
      </p>
      <Forecast v-if="can('rotations.foresee')" />
      <p v-if="!due.length && !underWay.length && !ended.length" class="empty">
        Nothing expires within {{ within }} days and no rotation is under way.
        <button v-if="within < 90" type="button" class="link-button" @click="router.replace({ query: { within: 90 } })">
          Look ninety days ahead
        </button>
      </p>
    </Loadable>
  </div>
</template>

<style scoped>
section {
  display: grid;
  gap: var(--s2);
  margin-bottom: var(--s5);
}
.nowrap {
  white-space: nowrap;
}
.hint-code {
  display: inline-block;
  max-width: 230px;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
  vertical-align: bottom;
}
.empty {
  border-top: 2px solid var(--line-strong);
  padding: var(--s4) 0;
}
</style>
