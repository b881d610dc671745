<script setup lang="ts">
// What one is asked about one's own clients first; then the directory's reviews, and starting one.
import { NButton } from "naive-ui";
import { computed, ref, watch } from "vue";
import { useRouter } from "vue-router";
import { type Schemas, api, must } from "@/api/client";
import { can, directory } from "@/api/session";
import { useMyReviews, useReviews, useWaiting } from "@/api/reads/audit";
import { useStale } from "@/api/reads/directory";
import { useResources } from "@/api/reads/resources";
import { useAttempt } from "@/ui/use/attempt";
import Choose from "@/ui/forms/Choose.vue";
import FindWord from "@/ui/forms/FindWord.vue";
import Loadable from "@/ui/Loadable.vue";
import Moment from "@/ui/Moment.vue";
import MoreRows from "@/ui/MoreRows.vue";
import PageHead from "@/ui/PageHead.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import StateWord from "@/ui/StateWord.vue";
import TextField from "@/ui/forms/TextField.vue";
import { day } from "@/ui/use/times";
import AuditTabs from "./AuditTabs.vue";
import Assigned from "./Assigned.vue";
import Questions from "./Questions.vue";
import { t } from "@/texts/sentences";
import { count } from "@/ui/use/words";

type DataClass = "open" | "internal" | "personal" | "restricted";
const router = useRouter();
const mine = useMyReviews();
const word = ref("");
const all = useReviews(word);
const { data: resources } = useResources();
const { total: waiting } = useWaiting();
const starting = ref(false);
const name = ref("");
const days = ref<number | string>(21);
const resource = ref<string | null>(null);
const data = ref<string | null>(null);
const CLASSES = [
  { value: "internal", label: t`internal data or graver` },
  { value: "personal", label: t`personal data or graver` },
  { value: "restricted", label: t`restricted data` },
];
const scope = computed(() => ({
  resource: resource.value ?? "",
  data: (data.value ?? "open") as DataClass,
  clients: [] as string[],
}));
const preview = ref<Schemas["ReviewPreview"] | null>(null);
const { busy, error, attempt } = useAttempt();
const stale = useStale();
let asked = 0;
watch([scope, starting], async () => {
  const mineNow = ++asked;
  preview.value = null;
  if (!starting.value) return;
  const found = await must(
    api.POST("/api/v1/directories/{directory}/reviews/preview", {
      params: { path: { directory: directory.value } },
      body: scope.value,
    }),
  );
  // An older answer is never shown beside newer choices.
  if (mineNow === asked) preview.value = found;
});
const start = () =>
  attempt(async () => {
    const made = await must(
      api.POST("/api/v1/directories/{directory}/reviews", {
        params: { path: { directory: directory.value } },
        body: { name: name.value, days: Number(days.value), scope: scope.value },
      }),
    );
    await stale();
    await router.push({ name: "review", params: { id: made.id } });
  });
const total = (one: Schemas["Review"]) => Object.values(one.answers).reduce((sum, many) => sum + many, 0);
</script>

<template>
  <PageHead
    title="Reviews"
    :count="mine.data.value ? (waiting ? count(waiting, 'waits for you', 'wait for you') : '') : ''"
    lead="Owners say of each grant and role whether it is still needed; nothing is ended before somebody who may has looked"
  >
    <NButton v-if="can('reviews.start') && !starting" type="primary" @click="starting = true">Start a review</NButton>
    <template #below><AuditTabs v-if="can('audit.read')" /></template>
  </PageHead>
  <form v-if="starting" class="card stack start" @submit.prevent="start">
    <h2>A new review</h2>
    <TextField v-model="name" label="What it is called" placeholder="Personal data, spring" :longest="80" />
    <div class="row scope">
      <label class="field"
        >At
        <Choose
          v-model="resource"
          :options="(resources ?? []).map((one) => ({ label: one.title, value: one.name }))"
          label="At which resource"
          placeholder="every resource"
      /></label>
      <label class="field"
        >That opens <Choose v-model="data" :options="CLASSES" label="That opens which data" placeholder="anything"
      /></label>
      <label class="field"
        >Owners have
        <span class="row"><input v-model="days" class="plain-input days" type="number" min="1" max="365" step="1" /> days</span></label
      >
    </div>
    <p v-if="preview" role="status" class="small">
      It asks {{ count(preview.owners, "owner") }} about {{ count(preview.items, "grant") }} of
      {{ count(preview.clients, "client") }}.<template v-if="preview.ownerless.length">
        Nobody can be asked about {{ preview.ownerless.join(", ") }}: stewards answer for these.</template
      >
    </p>
    <ProblemNote v-if="error" :error="error" />
    <div class="row">
      <NButton @click="starting = false">Cancel</NButton
      ><NButton type="primary" attr-type="submit" :loading="busy" :disabled="busy || !name.trim() || !preview?.items"
        >Ask the owners</NButton
      >
    </div>
  </form>
  <Loadable
    :loading="mine.isLoading.value"
    :error="mine.error.value ?? all.error.value"
    :ready="!!mine.data.value"
    :lines="8"
    :retry="mine.refetch"
  >
    <Assigned />
    <section v-for="one in mine.data.value" :key="one.review.id" :aria-label="one.review.name">
      <h2>
        {{ one.review.name }}
        <span class="soft small"
          >asked of you until {{ day(one.review.ends_at) }}; {{ one.items.filter((item) => !item.answer).length }} of
          {{ one.items.length }} wait</span
        >
      </h2>
      <p v-if="one.items.every((item) => item.answer)" class="thanks">
        <StateWord tone="live" word="all answered" /> Thank you: that is all. You can answer differently until it is closed.
      </p>
      <Questions :review="one.review.id" :items="one.items" :closed="false" />
    </section>
    <p v-if="!mine.data.value?.length && !can('reviews.list')" class="empty">No review asks anything of you.</p>
    <section v-if="can('reviews.list')" aria-labelledby="all">
      <h2 id="all">All reviews</h2>
      <FindWord v-model="word" label="Find a review" :shown="all.items.value.length" :total="all.total.value" />
      <p v-if="!all.items.value.length && !word" class="empty">
        There was no review yet. One asks owners whether what their clients hold is still needed.
      </p>
      <table v-else-if="all.items.value.length" class="log">
        <thead>
          <tr>
            <th scope="col">Review</th>
            <th scope="col">About</th>
            <th scope="col" class="number">Answered</th>
            <th scope="col" class="number">To end or narrow</th>
            <th scope="col" class="number">Carried out</th>
            <th scope="col">Ends</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="one in all.items.value" :key="one.id">
            <td class="free">
              <RouterLink :to="{ name: 'review', params: { id: one.id } }">{{ one.name }}</RouterLink>
              <div class="soft small">by {{ one.started_by }}</div>
            </td>
            <td class="free small">{{ one.about }}</td>
            <td class="number">{{ total(one) - (one.answers.waiting ?? 0) - (one.answers.proposed ?? 0) }} of {{ total(one) }}</td>
            <td class="number">
              {{ (one.answers["give-up"] ?? 0) + (one.answers.narrow ?? 0) + (one.answers.proposed ?? 0) }}
            </td>
            <td class="number">{{ one.done }}</td>
            <td class="nowrap"><StateWord v-if="one.closed_at" tone="gone" word="closed" /><Moment v-else :at="one.ends_at" /></td>
          </tr>
        </tbody>
      </table>
      <MoreRows
        :shown="all.items.value.length"
        :more="!!all.hasNextPage.value"
        :busy="all.isFetchingNextPage.value"
        @more="all.fetchNextPage()"
      />
    </section>
  </Loadable>
</template>

<style scoped>
section {
  margin-bottom: var(--s5);
}
h2 {
  margin-bottom: var(--s2);
}
.start {
  margin-bottom: var(--s5);
}
.scope {
  align-items: end;
  gap: var(--s4);
}
.field {
  display: grid;
  gap: 2px;
}
.days {
  width: 90px;
}
.number {
  text-align: right;
  white-space: nowrap;
}
.nowrap {
  white-space: nowrap;
}
.thanks {
  margin-bottom: var(--s3);
}
.empty {
  padding: var(--s3) 0;
}
</style>
