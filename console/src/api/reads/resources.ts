// Resources, their collections, who can do what, and why. Each read has its key, so that a change can say what it made stale.
import { keepPreviousData, useQuery } from "@tanstack/vue-query";
import { type MaybeRefOrGetter, toValue } from "vue";
import { api, must } from "@/api/client";
import { directory } from "@/api/session";
import { everyPage } from "./pages";
import { path } from "./path";

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
    queryFn: () => readHolders(toValue(name), toValue(operation), toValue(object), undefined),
  });

/** A page of who can do an operation; `object`: to this one, empty: to any. */
export const readHolders = (name: string, operation: string, object: string, cursor: string | undefined) =>
  must(
    api.GET("/api/v1/directories/{directory}/resources/{name}/holders", {
      params: { path: { ...path(), name }, query: { operation, ...(object ? { object } : {}), cursor } },
    }),
  );

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

export const useResources = () =>
  useQuery({
    queryKey: ["resources", directory],
    staleTime: 60_000,
    queryFn: () =>
      everyPage((cursor) =>
        must(api.GET("/api/v1/directories/{directory}/resources", { params: { path: path(), query: { limit: 100, cursor } } })),
      ),
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

export interface Question {
  resource: string;
  operation: string;
  kind: "application" | "delegated";
  person: string | null;
  object: string | null;
  token: string | null;
}

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
