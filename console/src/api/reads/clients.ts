// Clients, their dossiers, removals and publishers. Each read has its key, so that a change can say what it made stale.
import { keepPreviousData, useQuery } from "@tanstack/vue-query";
import { type MaybeRefOrGetter, toValue } from "vue";
import { api, must } from "@/api/client";
import { directory } from "@/api/session";
import { usePages } from "./pages";
import { path } from "./path";

export interface ClientFilter {
  q: string;
  attention: string;
  sort: string;
  cursor: string;
}

type Attention = "waiting" | "expiring" | "expired-credential" | "ownerless" | "dormant" | "disabled" | "unfinished";

type Sort = "name" | "registered" | "expiry" | "used";

/** One page of clients as they are filtered; as many at once as the service gives, where nothing else is said. */
export const readClients = ({ q, attention, sort }: Omit<ClientFilter, "cursor">, cursor: string | undefined, limit = 100) =>
  must(
    api.GET("/api/v1/directories/{directory}/clients", {
      params: {
        path: path(),
        query: { q, sort: (sort || "name") as Sort, limit, cursor, ...(attention ? { attention: attention as Attention } : {}) },
      },
    }),
  );

export const useClients = (filter: MaybeRefOrGetter<ClientFilter>) =>
  useQuery({
    queryKey: ["clients", directory, () => toValue(filter)],
    placeholderData: keepPreviousData,
    queryFn: () => readClients(toValue(filter), toValue(filter).cursor || undefined, 50),
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

export const readHistory = (client: string, cursor: string | undefined, limit = 100) =>
  must(api.GET("/api/v1/directories/{directory}/ledger", { params: { path: path(), query: { client, cursor, limit } } }));

export const useHistory = (client: MaybeRefOrGetter<string>) =>
  usePages(["client", directory, () => toValue(client), "history"], (cursor) => readHistory(toValue(client), cursor, 50));

export const readAttempts = (client: string, cursor: string | undefined, limit = 100) =>
  must(
    api.GET("/api/v1/directories/{directory}/clients/{client}/attempts", {
      params: { path: { ...path(), client }, query: { cursor, limit } },
    }),
  );

export const useAttempts = (client: MaybeRefOrGetter<string>) =>
  usePages(["client", directory, () => toValue(client), "attempts"], (cursor) => readAttempts(toValue(client), cursor, 12));

export const useRegistering = () =>
  useQuery({
    queryKey: ["registering", directory],
    queryFn: () => must(api.GET("/api/v1/directories/{directory}/registering", { params: { path: path() } })),
  });

export const readRemoved = (word: string, cursor: string | undefined, limit = 100) =>
  must(api.GET("/api/v1/directories/{directory}/removals", { params: { path: path(), query: { q: word, cursor, limit } } }));

/** Removed clients whose name has a word, the latest first, a page at a time. */
export const useRemoved = (word: MaybeRefOrGetter<string>) =>
  usePages(["clients", "removed", directory, () => toValue(word)], (cursor) => readRemoved(toValue(word), cursor, 50));

export const useInitialAccess = (wanted: MaybeRefOrGetter<boolean>) =>
  useQuery({
    queryKey: ["clients", "initial-access", directory],
    enabled: () => toValue(wanted),
    queryFn: () => must(api.GET("/api/v1/directories/{directory}/initial-access-tokens", { params: { path: path() } })),
  });

export const useRemovalPreview = (clients: MaybeRefOrGetter<string[]>) =>
  useQuery({
    queryKey: ["clients", "removal", directory, () => toValue(clients)],
    enabled: () => toValue(clients).length > 0,
    queryFn: () =>
      must(
        api.POST("/api/v1/directories/{directory}/removals/preview", {
          params: { path: path() },
          body: { clients: toValue(clients) },
        }),
      ),
  });

export const usePublishers = () =>
  useQuery({
    queryKey: ["publishers", directory],
    queryFn: () => must(api.GET("/api/v1/directories/{directory}/publishers", { params: { path: path() } })),
  });
