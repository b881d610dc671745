// Consent, requests, right-sizing. Each read has its key, so that a change can say what it made stale.
import { keepPreviousData, useQuery } from "@tanstack/vue-query";
import { type MaybeRefOrGetter, toValue } from "vue";
import { api, must } from "@/api/client";
import { directory } from "@/api/session";
import { usePages } from "./pages";
import { path } from "./path";

export type ReachChoice = { kind: "everywhere" | "only" | "all-but"; collections: string[] };

export interface ConsentTerms {
  reach: Record<string, ReachChoice>;
  expires_at: string | null;
  person: string | null;
}

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

export const useInheritance = (
  client: MaybeRefOrGetter<string>,
  choices: MaybeRefOrGetter<Choices | null>,
  fit: MaybeRefOrGetter<boolean>,
) =>
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

export interface ConsentFilter {
  q: string;
  resource: string;
  permission: string;
  /** "", "bounded", "unbounded", "itself", "people" or "by-people". */
  which: string;
}

const WHICH: Record<string, { bounded?: boolean; kind?: "application" | "delegated"; by_person?: boolean }> = {
  bounded: { bounded: true },
  unbounded: { bounded: false },
  itself: { kind: "application" },
  people: { kind: "delegated" },
  "by-people": { by_person: true },
};

/** One page of the consents of the directory, as they are filtered. */
export const readConsents = ({ q, resource, permission, which }: ConsentFilter, cursor: string | undefined, limit = 100) =>
  must(
    api.GET("/api/v1/directories/{directory}/consents", {
      params: {
        path: path(),
        query: {
          q,
          limit,
          cursor,
          ...WHICH[which],
          ...(resource ? { resource } : {}),
          ...(permission ? { permission } : {}),
        },
      },
    }),
  );

export const useConsents = (filter: MaybeRefOrGetter<ConsentFilter>, cursor: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: ["consents", directory, () => toValue(filter), () => toValue(cursor)],
    placeholderData: keepPreviousData,
    queryFn: () => readConsents(toValue(filter), toValue(cursor) || undefined, 50),
  });

export const readRequests = (waiting: boolean, cursor: string | undefined, limit = 100) =>
  must(api.GET("/api/v1/directories/{directory}/requests", { params: { path: path(), query: { waiting, cursor, limit } } }));

export const useRequests = (waiting: MaybeRefOrGetter<boolean>) =>
  usePages(["requests", directory, "waiting", () => toValue(waiting)], (cursor) => readRequests(toValue(waiting), cursor, 50));

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
          params: {
            path: { ...path(), name: toValue(name) },
            query: { operation: toValue(operations), client: toValue(client), kind: toValue(kind) },
          },
        }),
      ),
  });

export const useDryRuns = () =>
  useQuery({
    queryKey: ["audit", "trials", directory],
    queryFn: () => must(api.GET("/api/v1/directories/{directory}/audit/dry-runs", { params: { path: path() } })),
  });

export const useRightsizing = (client: MaybeRefOrGetter<string>, resource: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: ["client", directory, () => toValue(client), "rightsize", () => toValue(resource)],
    enabled: () => toValue(resource) !== "",
    queryFn: () =>
      must(
        api.GET("/api/v1/directories/{directory}/clients/{client}/rightsizing/{resource}", {
          params: { path: { ...path(), client: toValue(client), resource: toValue(resource) } },
        }),
      ),
  });
