// The reads of the console, each with its key, so that a change can say what it made stale.
import { keepPreviousData, useQuery, useQueryClient } from "@tanstack/vue-query";
import { type MaybeRefOrGetter, toValue } from "vue";
import { api, must } from "./client";
import { directory } from "./session";

export interface ClientFilter { q: string; attention: string; sort: string; cursor: string }
type Attention = "waiting" | "ending" | "dead-secret" | "ownerless";
type Sort = "name" | "registered" | "ends" | "used";

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

export const useConsent = (client: MaybeRefOrGetter<string>, asks: MaybeRefOrGetter<string[] | null>) =>
  useQuery({
    queryKey: ["client", directory, () => toValue(client), "consent", () => toValue(asks)],
    placeholderData: keepPreviousData,
    queryFn: () => {
      const chosen = toValue(asks);
      return must(
        api.GET("/api/v1/directories/{directory}/clients/{client}/consent", {
          params: { path: { ...path(), client: toValue(client) }, query: chosen ? { asks: chosen } : {} },
        }),
      );
    },
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

export const useProposal = (name: MaybeRefOrGetter<string>, operations: MaybeRefOrGetter<string[]>, client: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: ["client", directory, () => toValue(client), "proposal", () => toValue(name), () => toValue(operations)],
    enabled: () => toValue(name) !== "" && toValue(operations).length > 0,
    placeholderData: keepPreviousData,
    queryFn: () =>
      must(
        api.GET("/api/v1/directories/{directory}/resources/{name}/proposal", {
          params: { path: { ...path(), name: toValue(name) }, query: { operation: toValue(operations), client: toValue(client) } },
        }),
      ),
  });

export const useExplanation = (client: MaybeRefOrGetter<string>, resource: MaybeRefOrGetter<string>, operation: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: ["client", directory, () => toValue(client), "explanation", () => toValue(resource), () => toValue(operation)],
    enabled: () => toValue(operation) !== "",
    queryFn: () =>
      must(
        api.GET("/api/v1/directories/{directory}/clients/{client}/explanation", {
          params: {
            path: { ...path(), client: toValue(client) },
            query: { resource: toValue(resource), operation: toValue(operation) },
          },
        }),
      ),
  });

export const useAudit = () =>
  useQuery({
    queryKey: ["audit", directory],
    queryFn: () => must(api.GET("/api/v1/directories/{directory}/audit", { params: { path: path() } })),
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
    await queries.invalidateQueries({ predicate: (query) => query.queryKey[0] !== "resource" });
  };
}
