// Today, posture, findings, excess, escalation, reviews. Each read has its key, so that a change can say what it made stale.
import { keepPreviousData, useInfiniteQuery, useQuery } from "@tanstack/vue-query";
import { type MaybeRefOrGetter, computed, toValue } from "vue";
import { type Schemas, api, must } from "@/api/client";
import { can, directory } from "@/api/session";
import { usePages } from "./pages";
import { after, following, path } from "./path";

export const useToday = () =>
  useQuery({
    queryKey: ["today", directory],
    queryFn: () => must(api.GET("/api/v1/directories/{directory}/today", { params: { path: path() } })),
  });

export const useAudit = () =>
  useQuery({
    queryKey: ["audit", directory],
    queryFn: () => must(api.GET("/api/v1/directories/{directory}/audit", { params: { path: path() } })),
  });

export interface FindingFilter {
  which: "open" | "waived" | "resolved";
  severity: string;
  q: string;
  rule: string;
  client: string;
  owner: string;
}

type Severity = "high" | "medium" | "low";

const asked = (filter: FindingFilter) => {
  const { which, severity, q, rule, client, owner } = filter;
  return { which, q, rule, client, owner, ...(severity ? { severity: severity as Severity } : {}) };
};

export const useFindingGroups = (by: MaybeRefOrGetter<"rule" | "client" | "owner">, filter: MaybeRefOrGetter<FindingFilter>) =>
  useInfiniteQuery({
    queryKey: ["audit", "groups", directory, () => toValue(by), () => toValue(filter)],
    placeholderData: keepPreviousData,
    initialPageParam: "",
    getNextPageParam: following,
    queryFn: ({ pageParam }) =>
      must(
        api.GET("/api/v1/directories/{directory}/audit/groups", {
          params: {
            path: path(),
            query: { by: toValue(by), limit: 100, ...asked(toValue(filter)), ...after(pageParam) },
          },
        }),
      ),
  });

export const readFindings = (filter: FindingFilter, cursor: string | undefined, limit = 100) =>
  must(
    api.GET("/api/v1/directories/{directory}/audit/findings", {
      params: { path: path(), query: { limit, ...asked(filter), ...after(cursor) } },
    }),
  );

export const useFindings = (filter: MaybeRefOrGetter<FindingFilter>, fit: MaybeRefOrGetter<boolean>, limit = 50) =>
  useInfiniteQuery({
    queryKey: ["audit", "findings", directory, () => toValue(filter), limit],
    enabled: () => toValue(fit),
    placeholderData: keepPreviousData,
    initialPageParam: "",
    getNextPageParam: following,
    queryFn: ({ pageParam }) => readFindings(toValue(filter), pageParam, limit),
  });

const ofFinding = (finding: MaybeRefOrGetter<string>) => ({
  params: { path: { ...path(), finding: toValue(finding) } },
});

export const useFinding = (finding: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: ["audit", "finding", directory, () => toValue(finding)],
    enabled: () => toValue(finding) !== "",
    queryFn: () => must(api.GET("/api/v1/directories/{directory}/audit/findings/{finding}", ofFinding(finding))),
  });

export const useMend = (finding: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: ["audit", "remedy", directory, () => toValue(finding)],
    retry: false,
    queryFn: () => must(api.GET("/api/v1/directories/{directory}/audit/findings/{finding}/remedy", ofFinding(finding))),
  });

export const useExcess = (by: MaybeRefOrGetter<"client" | "owner" | "resource">) =>
  useQuery({
    queryKey: ["audit", "excess", directory, () => toValue(by)],
    placeholderData: keepPreviousData,
    queryFn: () =>
      must(
        api.GET("/api/v1/directories/{directory}/audit/excess", {
          params: { path: path(), query: { by: toValue(by), limit: 100 } },
        }),
      ),
  });

export const useTrend = (by: MaybeRefOrGetter<"client" | "owner" | "resource">, key: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: ["audit", "trend", directory, () => toValue(by), () => toValue(key)],
    enabled: () => toValue(key) !== "",
    queryFn: () =>
      must(
        api.GET("/api/v1/directories/{directory}/audit/excess/trend", {
          params: { path: path(), query: { by: toValue(by), key: toValue(key), days: 90 } },
        }),
      ),
  });

export const useEscalation = () =>
  useQuery({
    queryKey: ["audit", "escalation", directory],
    queryFn: () =>
      must(
        api.GET("/api/v1/directories/{directory}/audit/escalation-paths", {
          params: { path: path(), query: { most: 40 } },
        }),
      ),
    // Of a large directory a round finds them.
    refetchInterval: ({ state }) => (state.data && (state.data.as_of || !state.data.found) ? 20_000 : false),
  });

/** Reviews whose name has a word, the latest first, a page at a time. */
export const useReviews = (word: MaybeRefOrGetter<string>) =>
  usePages(
    ["reviews", directory, () => toValue(word)],
    (cursor) =>
      must(
        api.GET("/api/v1/directories/{directory}/reviews", {
          params: { path: path(), query: { q: toValue(word), cursor, limit: 50 } },
        }),
      ),
    () => can("reviews.list"),
  );

export const useMyReviews = (when: () => boolean = () => true) =>
  useQuery({
    queryKey: ["reviews", "mine", directory],
    enabled: () => can("reviews.mine") && when(),
    queryFn: () => must(api.GET("/api/v1/directories/{directory}/my-reviews", { params: { path: path() } })),
  });

export const useGiven = (when: () => boolean = () => true) =>
  useQuery({
    queryKey: ["findings", "mine", directory],
    enabled: () => can("findings.mine") && when(),
    queryFn: () => must(api.GET("/api/v1/directories/{directory}/my-findings", { params: { path: path() } })),
  });

/** What waits for one's answer: questions of reviews, and findings that one was given. */
export function useWaiting(when: () => boolean = () => true) {
  const { data: reviews } = useMyReviews(when);
  const { data: given } = useGiven(when);
  const findings = computed(() => (given.value ?? []).filter((one) => !one.answer).length);
  const questions = computed(() => (reviews.value ?? []).flatMap((one) => one.items).filter((item) => !item.answer).length);
  // Not before both are known: a number that grows while one looks is misread.
  const total = computed(() => (reviews.value && given.value ? questions.value + findings.value : 0));
  return { findings, total };
}

export const useReview = (review: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: ["reviews", directory, () => toValue(review)],
    queryFn: () =>
      must(
        api.GET("/api/v1/directories/{directory}/reviews/{review}", {
          params: { path: { ...path(), review: toValue(review) } },
        }),
      ),
  });

export const readReviewItems = (review: string, answer: Schemas["Answer"] | undefined, cursor: string | undefined) =>
  must(
    api.GET("/api/v1/directories/{directory}/reviews/{review}/items", {
      params: {
        path: { ...path(), review },
        query: { ...(answer === undefined ? {} : { answer }), ...after(cursor) },
      },
    }),
  );

export const useReviewItems = (review: MaybeRefOrGetter<string>, answer: MaybeRefOrGetter<Schemas["Answer"] | undefined>) =>
  useInfiniteQuery({
    queryKey: ["reviews", "items", directory, () => toValue(review), () => toValue(answer)],
    placeholderData: keepPreviousData,
    initialPageParam: "",
    getNextPageParam: following,
    queryFn: ({ pageParam }) => readReviewItems(toValue(review), toValue(answer), pageParam),
  });
