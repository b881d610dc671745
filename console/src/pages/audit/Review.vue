<script setup lang="ts">
// One review: how far it is, what was answered, closing it, and carrying the answers out.
import { NButton } from "naive-ui";
import { computed, ref } from "vue";
import { useRoute, useRouter } from "vue-router";
import { type Schemas, api, must } from "@/api/client";
import { can, directory } from "@/api/session";
import { useReview, readReviewItems, useReviewItems } from "@/api/reads/audit";
import { useStale } from "@/api/reads/directory";
import ExportList from "@/ui/ExportList.vue";
import { useAttempt } from "@/ui/use/attempt";
import Loadable from "@/ui/Loadable.vue";
import PageHead from "@/ui/PageHead.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import { day, full } from "@/ui/use/times";
import Questions from "./Questions.vue";
import { useTitle } from "@/ui/use/title";
import { t } from "@/texts/sentences";
import { count } from "@/ui/use/words";

const route = useRoute();
const router = useRouter();
const id = computed(() => String(route.params.id));
const { data: review, error: unread, isLoading, refetch } = useReview(id);
type Shown = "waiting" | Schemas["Answer"];
const SHOWS: { value: Shown; label: string }[] = [
  { value: "", label: t`all` },
  { value: "waiting", label: t`waiting` },
  { value: "confirm", label: t`still needed` },
  { value: "narrow", label: t`needed for less` },
  { value: "give-up", label: t`not needed` },
  { value: "proposed", label: t`no answer` },
];
const shows = computed(() => SHOWS.find((one) => one.value === route.query.answer)?.value ?? ("" as Shown));
const wanted = computed<Schemas["Answer"] | undefined>(() =>
  shows.value === "" ? undefined : shows.value === "waiting" ? "" : shows.value,
);
const { data: pages, error: unlisted, hasNextPage, fetchNextPage, isFetchingNextPage } = useReviewItems(id, wanted);
const items = computed(() => (pages.value?.pages ?? []).flatMap((page) => page.items));
const having = (value: string) => review.value?.answers[value] ?? 0;
const all = computed(() => Object.values(review.value?.answers ?? {}).reduce((sum, one) => sum + one, 0));
const among = (value: string) => (value ? having(value) : all.value);
const left = computed(() => having("narrow") + having("give-up") + having("proposed") - (review.value?.done ?? 0));
// One by one where all of them are in sight; else how many there are, and the way to each.
const TAKES = ["narrow", "give-up", "proposed"];
const listed = computed(() => items.value.filter((one) => !one.done_at && TAKES.includes(one.answer)));
useTitle(t`Review`, () => review.value?.name);
const sure = ref<"" | "close" | "carry">("");
const outcome = ref<Schemas["CarriedOut"] | null>(null);
const { busy, error, attempt } = useAttempt();
const stale = useStale();
const params = () => ({ params: { path: { directory: directory.value, review: id.value } } });
const close = () =>
  attempt(async () => {
    await must(api.POST("/api/v1/directories/{directory}/reviews/{review}/closing", params()));
    sure.value = "";
    await stale();
  });
const carry = () =>
  attempt(async () => {
    // A hundred a call; the page shows what is done as it goes.
    let after: string | null = null;
    outcome.value = { done: [], failed: [], next: null };
    do {
      const some: Schemas["CarriedOut"] = await must(
        api.POST("/api/v1/directories/{directory}/reviews/{review}/carrying-out", { ...params(), body: { after } }),
      );
      outcome.value = {
        done: [...outcome.value.done, ...some.done],
        failed: [...outcome.value.failed, ...some.failed],
        next: some.next,
      };
      after = some.next;
    } while (after);
    sure.value = "";
    await stale();
  });
const named = (item: string) => {
  const one = items.value.find((row) => row.id === item);
  return one ? `${one.client_name}, ${one.permission}` : item;
};
</script>

<template>
  <Loadable page :loading="isLoading" :error="unread" :ready="!!review" :lines="14" :retry="refetch">
    <template v-if="review">
      <PageHead
        :title="review.name"
        :count="t`${all - having('waiting') - having('proposed')} of ${all} answered`"
        :lead="
          t`${review.about}; started by ${review.started_by}, ${review.closed_at ? t`closed ${full(review.closed_at)}` : t`until ${day(review.ends_at)}`}`
        "
      >
        <NButton v-if="!review.closed_at && can('reviews.close')" @click="sure = 'close'">Close it now</NButton>
        <NButton v-if="left && can('reviews.carry-out')" type="primary" @click="sure = 'carry'"
          >Carry out {{ count(left, "answer") }}</NButton
        >
        <template #below><RouterLink class="small" :to="{ name: 'reviews' }">All reviews</RouterLink></template>
      </PageHead>
      <div v-if="sure" class="card stack sure" role="group" aria-label="Are you sure">
        <p v-if="sure === 'close'">
          Close it with {{ having("waiting") }} unanswered? These are then proposed for withdrawal; nothing is withdrawn by that.
        </p>
        <template v-else>
          <p>This ends or narrows {{ count(left, "grant") }}, within seconds:</p>
          <ul v-if="listed.length === left" class="small">
            <li v-for="one in listed" :key="one.id">
              {{ one.client_name }}:
              {{
                one.answer === "narrow"
                  ? t`${one.permission} at ${one.resource} ${one.narrower?.words}`
                  : t`no ${one.through || one.permission} at ${one.resource} any more`
              }}<span class="soft"> ({{ one.answer === "proposed" ? t`nobody answered` : t`says ${one.answered_by}` }})</span>
            </li>
          </ul>
          <ul v-else class="small">
            <li v-for="one in SHOWS.filter((show) => TAKES.includes(show.value) && having(show.value))" :key="one.value">
              <RouterLink :to="{ query: { answer: one.value } }">{{ having(one.value) }} {{ one.label }}</RouterLink>
            </li>
          </ul>
        </template>
        <div class="row">
          <NButton @click="sure = ''">Cancel</NButton
          ><NButton type="error" ghost :loading="busy" :disabled="busy" @click="sure === 'close' ? close() : carry()">{{
            sure === "close" ? t`Close it` : t`Carry them out`
          }}</NButton>
        </div>
      </div>
      <ProblemNote v-if="error" :error="error" />
      <div v-if="outcome" role="status" class="outcome">
        {{ outcome.done.length }} carried out.
        <ul v-if="outcome.failed.length" class="small">
          <li v-for="one in outcome.failed" :key="one.item">{{ named(one.item) }}: {{ one.why }}</li>
        </ul>
      </div>
      <div class="row filter" role="group" aria-label="Answer">
        <button
          v-for="one in SHOWS"
          :key="one.value"
          type="button"
          class="toggle"
          :aria-pressed="shows === one.value"
          @click="router.replace({ query: one.value ? { answer: one.value } : {} })"
        >
          {{ one.label }} {{ among(one.value) }}
        </button>
      </div>
      <p v-if="!items.length" class="soft">None.</p>
      <ProblemNote v-if="unlisted" :error="unlisted" />
      <h2 class="visually-hidden">Questions</h2>
      <Questions :review="review.id" :items="items" :closed="!!review.closed_at || !can('reviews.answer')" />
      <NButton v-if="hasNextPage" :loading="isFetchingNextPage" @click="fetchNextPage()">Show more of {{ among(shows) }}</NButton>
      <ExportList v-if="items.length" name="review" what="these answers" :read="(cursor) => readReviewItems(id, wanted, cursor)" />
    </template>
  </Loadable>
</template>

<style scoped>
.filter {
  gap: var(--s1);
  margin-bottom: var(--s3);
}
.sure,
.outcome {
  margin-bottom: var(--s4);
}
.sure ul {
  padding-left: 18px;
}
</style>
