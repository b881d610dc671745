// The reads of the console, each with its key, so that a change can say what it made stale.
import { keepPreviousData, useInfiniteQuery, useQuery, useQueryClient } from "@tanstack/vue-query";
import { type MaybeRefOrGetter, computed, toValue } from "vue";
import { type Schemas, api, must } from "./client";
import { can, directory } from "./session";

export interface ClientFilter { q: string; attention: string; sort: string; cursor: string }
type Attention = "waiting" | "expiring" | "expired-credential" | "ownerless" | "dormant" | "disabled";
type Sort = "name" | "registered" | "expiry" | "used";

const path = () => ({ directory: directory.value });

export const useToday = () =>
  useQuery({
    queryKey: ["today", directory],
    queryFn: () => must(api.GET("/api/v1/directories/{directory}/today", { params: { path: path() } })),
  });

export const useDirectory = () =>
  useQuery({
    queryKey: ["directory", directory],
    staleTime: 300_000,
    queryFn: () => must(api.GET("/api/v1/directories/{directory}", { params: { path: path() } })),
  });

export const usePeople = () =>
  useQuery({
    queryKey: ["people", directory],
    enabled: () => can("people.list"),
    queryFn: () => must(api.GET("/api/v1/directories/{directory}/people", { params: { path: path() } })),
  });

export const useClients = (filter: MaybeRefOrGetter<ClientFilter>) =>
  useQuery({
    queryKey: ["clients", directory, () => toValue(filter)],
    placeholderData: keepPreviousData,
    queryFn: () => {
      const { q, attention, sort, cursor } = toValue(filter);
      const query = {
        q, sort: (sort || "name") as Sort, limit: 50,
        ...(attention ? { attention: attention as Attention } : {}),
        ...(cursor ? { cursor } : {}),
      };
      return must(api.GET("/api/v1/directories/{directory}/clients", { params: { path: path(), query } }));
    },
  });

export const useDossier = (client: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: ["client", directory, () => toValue(client), "dossier"],
    enabled: () => toValue(client) !== "",
    queryFn: () =>
      must(
        api.GET("/api/v1/directories/{directory}/clients/{client}", {
          params: { path: { ...path(), client: toValue(client) } },
        }),
      ),
  });

export const useHistory = (client: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: ["client", directory, () => toValue(client), "history"],
    queryFn: () =>
      must(
        api.GET("/api/v1/directories/{directory}/ledger", {
          params: { path: path(), query: { client: toValue(client), limit: 50 } },
        }),
      ),
  });

export const useAttempts = (client: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: ["client", directory, () => toValue(client), "attempts"],
    queryFn: () =>
      must(
        api.GET("/api/v1/directories/{directory}/clients/{client}/attempts", {
          params: { path: { ...path(), client: toValue(client) }, query: { limit: 12 } },
        }),
      ),
  });

export const useHandovers = (client: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: ["client", directory, () => toValue(client), "handovers"],
    queryFn: () =>
      must(
        api.GET("/api/v1/directories/{directory}/clients/{client}/handovers", {
          params: { path: { ...path(), client: toValue(client) } },
        }),
      ),
  });

export const useNotices = () =>
  useQuery({
    queryKey: ["notices", directory],
    queryFn: () => must(api.GET("/api/v1/directories/{directory}/notices", { params: { path: path(), query: { limit: 60 } } })),
  });

export const useFailingDuties = () =>
  useQuery({
    queryKey: ["duties", directory],
    queryFn: () => must(api.GET("/api/v1/directories/{directory}/duties", { params: { path: path() } })),
  });

export const useWebhooks = () =>
  useQuery({
    queryKey: ["webhooks", directory],
    queryFn: () => must(api.GET("/api/v1/directories/{directory}/webhooks", { params: { path: path() } })),
  });

export const useSheets = (client: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: ["client", directory, () => toValue(client), "sheet"],
    queryFn: () =>
      must(
        api.GET("/api/v1/directories/{directory}/clients/{client}/sheet", {
          params: { path: { ...path(), client: toValue(client) } },
        }),
      ),
  });

export type ReachChoice = { kind: "everywhere" | "only" | "all-but"; collections: string[] };
export interface ConsentTerms { reach: Record<string, ReachChoice>; expires_at: string | null; person: string | null }

export const useConsent = (
  client: MaybeRefOrGetter<string>,
  asks: MaybeRefOrGetter<string[] | null>,
  terms: MaybeRefOrGetter<ConsentTerms | null> = null,
) =>
  useQuery({
    queryKey: ["client", directory, () => toValue(client), "consent", () => toValue(asks), () => toValue(terms)],
    enabled: () => toValue(client) !== "",
    placeholderData: keepPreviousData,
    queryFn: () =>
      must(
        api.POST("/api/v1/directories/{directory}/clients/{client}/consent/preview", {
          params: { path: { ...path(), client: toValue(client) } },
          body: { asks: toValue(asks), terms: toValue(terms) },
        }),
      ),
  });

export type Level = "nothing" | "read" | "read-and-write" | "all";
export type Choices = Record<string, { level: Level; reach: ReachChoice }>;

export const useInheritance = (client: MaybeRefOrGetter<string>, choices: MaybeRefOrGetter<Choices | null>, fit: MaybeRefOrGetter<boolean>) =>
  useQuery({
    queryKey: ["client", directory, () => toValue(client), "inheritance", () => toValue(choices)],
    enabled: () => toValue(fit),
    placeholderData: keepPreviousData,
    queryFn: () =>
      must(
        api.POST("/api/v1/directories/{directory}/clients/{client}/inheritance/preview", {
          params: { path: { ...path(), client: toValue(client) } },
          body: { choices: toValue(choices), reason: "" },
        }),
      ),
  });

export const useRequests = (waiting: MaybeRefOrGetter<boolean>) =>
  useQuery({
    queryKey: ["requests", directory, () => toValue(waiting)],
    placeholderData: keepPreviousData,
    queryFn: () =>
      must(
        api.GET("/api/v1/directories/{directory}/requests", {
          params: { path: path(), query: { waiting: toValue(waiting), limit: 50 } },
        }),
      ),
  });

export const useRequest = (request: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: ["requests", directory, () => toValue(request)],
    enabled: () => toValue(request) !== "",
    queryFn: () =>
      must(
        api.GET("/api/v1/directories/{directory}/requests/{request}", {
          params: { path: { ...path(), request: toValue(request) } },
        }),
      ),
  });

export const useCollections = (name: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: ["collections", directory, () => toValue(name)],
    enabled: () => toValue(name) !== "",
    queryFn: () =>
      must(
        api.GET("/api/v1/directories/{directory}/resources/{name}/collections", {
          params: { path: { ...path(), name: toValue(name) } },
        }),
      ),
  });

export const useHolders = (name: MaybeRefOrGetter<string>, operation: MaybeRefOrGetter<string>, object: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: ["holders", directory, () => toValue(name), () => toValue(operation), () => toValue(object)],
    enabled: () => toValue(name) !== "" && toValue(operation) !== "",
    placeholderData: keepPreviousData,
    queryFn: () =>
      must(
        api.GET("/api/v1/directories/{directory}/resources/{name}/holders", {
          params: {
            path: { ...path(), name: toValue(name) },
            query: { operation: toValue(operation), ...(toValue(object) ? { object: toValue(object) } : {}) },
          },
        }),
      ),
  });

export const useReach = (client: MaybeRefOrGetter<string>, resource: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: ["client", directory, () => toValue(client), "reach", () => toValue(resource)],
    enabled: () => toValue(resource) !== "",
    placeholderData: keepPreviousData,
    queryFn: () =>
      must(
        api.GET("/api/v1/directories/{directory}/clients/{client}/reach", {
          params: { path: { ...path(), client: toValue(client) }, query: { resource: toValue(resource) } },
        }),
      ),
  });

export const useRefusals = (client: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: ["client", directory, () => toValue(client), "refusals"],
    queryFn: () =>
      must(
        api.GET("/api/v1/directories/{directory}/clients/{client}/refusals", {
          params: { path: { ...path(), client: toValue(client) }, query: { limit: 20 } },
        }),
      ),
  });

export const useRoles = () =>
  useQuery({
    queryKey: ["roles", directory],
    queryFn: () => must(api.GET("/api/v1/directories/{directory}/roles", { params: { path: path() } })),
  });

// Lists that grow by a page at a time, so that what was chosen in one stays chosen.
const following = (page: { next?: string | null }) => page.next ?? undefined;
const from = (cursor: string) => (cursor ? { cursor } : {});

export const useDue = (within: MaybeRefOrGetter<number>) =>
  useInfiniteQuery({
    queryKey: ["rotations", "due", directory, () => toValue(within)],
    placeholderData: keepPreviousData,
    initialPageParam: "",
    getNextPageParam: following,
    queryFn: ({ pageParam }) =>
      must(api.GET("/api/v1/directories/{directory}/rotations/due", { params: { path: path(), query: { within: toValue(within), limit: 100, ...from(pageParam) } } })),
  });

export const useRotations = (ended: boolean) =>
  useInfiniteQuery({
    queryKey: ["rotations", ended, directory],
    initialPageParam: "",
    getNextPageParam: following,
    queryFn: ({ pageParam }) =>
      must(api.GET("/api/v1/directories/{directory}/rotations", { params: { path: path(), query: { ended, limit: 100, ...from(pageParam) } } })),
  });

export const useGroups = () =>
  useQuery({
    queryKey: ["groups", directory],
    queryFn: () => must(api.GET("/api/v1/directories/{directory}/groups", { params: { path: path() } })),
  });

export const useRegistering = () =>
  useQuery({
    queryKey: ["registering", directory],
    queryFn: () => must(api.GET("/api/v1/directories/{directory}/registering", { params: { path: path() } })),
  });

export const useResources = () =>
  useQuery({
    queryKey: ["resources", directory],
    staleTime: 60_000,
    queryFn: () => must(api.GET("/api/v1/directories/{directory}/resources", { params: { path: path() } })),
  });

export const useResource = (name: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: ["resource", directory, () => toValue(name)],
    enabled: () => toValue(name) !== "",
    staleTime: 60_000,
    queryFn: () =>
      must(
        api.GET("/api/v1/directories/{directory}/resources/{name}", {
          params: { path: { ...path(), name: toValue(name) } },
        }),
      ),
  });

export const useProposal = (
  name: MaybeRefOrGetter<string>,
  operations: MaybeRefOrGetter<string[]>,
  client: MaybeRefOrGetter<string>,
  kind: MaybeRefOrGetter<"application" | "delegated">,
) =>
  useQuery({
    queryKey: ["client", directory, () => toValue(client), "proposal", () => toValue(name), () => toValue(operations), () => toValue(kind)],
    enabled: () => toValue(name) !== "" && toValue(operations).length > 0,
    placeholderData: keepPreviousData,
    queryFn: () =>
      must(
        api.GET("/api/v1/directories/{directory}/resources/{name}/proposal", {
          params: { path: { ...path(), name: toValue(name) }, query: { operation: toValue(operations), client: toValue(client), kind: toValue(kind) } },
        }),
      ),
  });

export interface Question { resource: string; operation: string; kind: "application" | "delegated"; person: string | null; object: string | null; token: string | null }

export const useExplanation = (client: MaybeRefOrGetter<string>, question: MaybeRefOrGetter<Question | null>) =>
  useQuery({
    queryKey: ["client", directory, () => toValue(client), "explanation", () => toValue(question)],
    enabled: () => toValue(question) !== null,
    // A token that was pasted is not kept longer than it is looked at.
    gcTime: 0,
    queryFn: () =>
      must(
        api.POST("/api/v1/directories/{directory}/clients/{client}/explanation", {
          params: { path: { ...path(), client: toValue(client) } },
          body: toValue(question) as Question,
        }),
      ),
  });

export const useAudit = () =>
  useQuery({
    queryKey: ["audit", directory],
    queryFn: () => must(api.GET("/api/v1/directories/{directory}/audit", { params: { path: path() } })),
  });

export interface FindingFilter { which: "open" | "waived" | "resolved"; severity: string; q: string; rule: string; client: string; owner: string }
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
      must(api.GET("/api/v1/directories/{directory}/audit/groups", { params: { path: path(), query: { by: toValue(by), limit: 50, ...asked(toValue(filter)), ...from(pageParam) } } })),
  });

export const useFindings = (filter: MaybeRefOrGetter<FindingFilter>, fit: MaybeRefOrGetter<boolean>, limit = 50) =>
  useInfiniteQuery({
    queryKey: ["audit", "findings", directory, () => toValue(filter), limit],
    enabled: () => toValue(fit),
    placeholderData: keepPreviousData,
    initialPageParam: "",
    getNextPageParam: following,
    queryFn: ({ pageParam }) =>
      must(api.GET("/api/v1/directories/{directory}/audit/findings", { params: { path: path(), query: { limit, ...asked(toValue(filter)), ...from(pageParam) } } })),
  });

const ofFinding = (finding: MaybeRefOrGetter<string>) => ({ params: { path: { ...path(), finding: toValue(finding) } } });

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
    queryFn: () => must(api.GET("/api/v1/directories/{directory}/audit/excess", { params: { path: path(), query: { by: toValue(by), limit: 100 } } })),
  });

export const useTrend = (by: MaybeRefOrGetter<"client" | "owner" | "resource">, key: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: ["audit", "trend", directory, () => toValue(by), () => toValue(key)],
    enabled: () => toValue(key) !== "",
    queryFn: () => must(api.GET("/api/v1/directories/{directory}/audit/excess/trend", { params: { path: path(), query: { by: toValue(by), key: toValue(key), days: 90 } } })),
  });

export const useDryRuns = () =>
  useQuery({
    queryKey: ["audit", "trials", directory],
    queryFn: () => must(api.GET("/api/v1/directories/{directory}/audit/dry-runs", { params: { path: path() } })),
  });

export const useEscalation = () =>
  useQuery({
    queryKey: ["audit", "escalation", directory],
    queryFn: () => must(api.GET("/api/v1/directories/{directory}/audit/escalation-paths", { params: { path: path(), query: { most: 40 } } })),
  });

export const useRightsizing = (client: MaybeRefOrGetter<string>, resource: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: ["client", directory, () => toValue(client), "rightsize", () => toValue(resource)],
    enabled: () => toValue(resource) !== "",
    queryFn: () =>
      must(api.GET("/api/v1/directories/{directory}/clients/{client}/rightsizing/{resource}", { params: { path: { ...path(), client: toValue(client), resource: toValue(resource) } } })),
  });

export const useReviews = () =>
  useQuery({
    queryKey: ["reviews", directory],
    enabled: () => can("reviews.list"),
    queryFn: () => must(api.GET("/api/v1/directories/{directory}/reviews", { params: { path: path() } })),
  });

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
    queryFn: () => must(api.GET("/api/v1/directories/{directory}/reviews/{review}", { params: { path: { ...path(), review: toValue(review) } } })),
  });

export const useReviewItems = (review: MaybeRefOrGetter<string>, answer: MaybeRefOrGetter<Schemas["Answer"] | undefined>) =>
  useInfiniteQuery({
    queryKey: ["reviews", "items", directory, () => toValue(review), () => toValue(answer)],
    placeholderData: keepPreviousData,
    initialPageParam: "",
    getNextPageParam: following,
    queryFn: ({ pageParam }) => {
      const said = toValue(answer);
      return must(api.GET("/api/v1/directories/{directory}/reviews/{review}/items", { params: { path: { ...path(), review: toValue(review) }, query: { ...(said === undefined ? {} : { answer: said }), ...from(pageParam) } } }));
    },
  });

export const useRemoved = () =>
  useQuery({
    queryKey: ["clients", "removed", directory],
    queryFn: () => must(api.GET("/api/v1/directories/{directory}/removals", { params: { path: path(), query: { limit: 100 } } })),
  });

export const useRemovalPreview = (clients: MaybeRefOrGetter<string[]>) =>
  useQuery({
    queryKey: ["clients", "removal", directory, () => toValue(clients)],
    enabled: () => toValue(clients).length > 0,
    queryFn: () => must(api.POST("/api/v1/directories/{directory}/removals/preview", { params: { path: path() }, body: { clients: toValue(clients) } })),
  });

export const usePublishers = () =>
  useQuery({
    queryKey: ["publishers", directory],
    queryFn: () => must(api.GET("/api/v1/directories/{directory}/publishers", { params: { path: path() } })),
  });

export const useLedger = (cursor: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: ["ledger", directory, () => toValue(cursor)],
    placeholderData: keepPreviousData,
    queryFn: () => {
      const at = toValue(cursor);
      return must(
        api.GET("/api/v1/directories/{directory}/ledger", {
          params: { path: path(), query: at ? { cursor: at, limit: 30 } : { limit: 30 } },
        }),
      );
    },
  });

/** After a change to a client, everything that shows it is read again. */
export function useStale(): () => Promise<void> {
  const queries = useQueryClient();
  return async () => {
    await queries.invalidateQueries();
  };
}
