// The directory, its people, groups, roles and ledger; what a change made stale. Each read has its key, so that a change can say what it made stale.
import { keepPreviousData, useQuery, useQueryClient } from "@tanstack/vue-query";
import { type MaybeRefOrGetter, toValue } from "vue";
import { api, must } from "@/api/client";
import { directory } from "@/api/session";
import { everyPage, usePages } from "./pages";
import { path } from "./path";

export const useDirectory = () =>
  useQuery({
    queryKey: ["directory", directory],
    staleTime: 300_000,
    queryFn: () => must(api.GET("/api/v1/directories/{directory}", { params: { path: path() } })),
  });

export const readPeople = (query: { q?: string; active?: boolean; cursor?: string; limit?: number }) =>
  must(api.GET("/api/v1/directories/{directory}/people", { params: { path: path(), query } }));

/** People whose name or login has a word, a page at a time. */
export const usePeople = (word: MaybeRefOrGetter<string>) =>
  usePages(["people", directory, () => toValue(word)], (cursor) => readPeople({ q: toValue(word), cursor, limit: 50 }));

export const useRoles = () =>
  useQuery({
    queryKey: ["roles", directory],
    queryFn: () => must(api.GET("/api/v1/directories/{directory}/roles", { params: { path: path() } })),
  });

/** All who hold a role: of many, the list of roles has the first. */
export const readHolders = (role: string) =>
  everyPage((cursor) =>
    must(
      api.GET("/api/v1/directories/{directory}/roles/{role}/holders", {
        params: { path: { ...path(), role }, query: { limit: 100, cursor } },
      }),
    ),
  );

export const readGroups = (query: { q?: string; cursor?: string; limit?: number }) =>
  must(api.GET("/api/v1/directories/{directory}/groups", { params: { path: path(), query } }));

export const useGroups = () =>
  useQuery({
    queryKey: ["groups", directory],
    queryFn: () => everyPage((cursor) => readGroups({ cursor, limit: 100 })),
  });

export const readProviders = () => must(api.GET("/api/v1/directories/{directory}/providers", { params: { path: path() } }));

export const useProviders = () => useQuery({ queryKey: ["people", "providers", directory], queryFn: readProviders });

export const useSigningKeys = () =>
  useQuery({
    queryKey: ["signing-keys", directory],
    queryFn: () => must(api.GET("/api/v1/directories/{directory}/signing-keys", { params: { path: path() } })),
  });

export const readLedger = (cursor: string | undefined, limit = 100) =>
  must(api.GET("/api/v1/directories/{directory}/ledger", { params: { path: path(), query: { cursor, limit } } }));

export const useLedger = (cursor: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: ["ledger", directory, () => toValue(cursor)],
    placeholderData: keepPreviousData,
    queryFn: () => readLedger(toValue(cursor) || undefined, 30),
  });

/** After a change to a client, everything that shows it is read again. */
export function useStale(): () => Promise<void> {
  const queries = useQueryClient();
  return async () => {
    await queries.invalidateQueries();
  };
}
