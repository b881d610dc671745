// Credentials: handovers, connection sheets, rotation. Each read has its key, so that a change can say what it made stale.
import { keepPreviousData, useInfiniteQuery, useQuery } from "@tanstack/vue-query";
import { type MaybeRefOrGetter, toValue } from "vue";
import { api, must } from "@/api/client";
import { directory } from "@/api/session";
import { after, following, path } from "./path";

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

export const readDue = (within: number, cursor: string | undefined) =>
  must(
    api.GET("/api/v1/directories/{directory}/rotations/due", {
      params: { path: path(), query: { within, limit: 100, ...after(cursor) } },
    }),
  );

// Lists that grow by a page at a time, so that what was chosen in one stays chosen.
export const useDue = (within: MaybeRefOrGetter<number>) =>
  useInfiniteQuery({
    queryKey: ["rotations", "due", directory, () => toValue(within)],
    placeholderData: keepPreviousData,
    initialPageParam: "",
    getNextPageParam: following,
    queryFn: ({ pageParam }) => readDue(toValue(within), pageParam),
  });

/** A policy that is not this one, to see what it would bring. */
export interface OtherPolicy {
  secret_default_days?: number;
  key_default_days?: number;
  warn_days?: number;
}

export const useForecast = (other: MaybeRefOrGetter<OtherPolicy | null>, wanted: MaybeRefOrGetter<boolean>) =>
  useQuery({
    queryKey: ["rotations", "forecast", directory, () => toValue(other)],
    enabled: () => toValue(wanted),
    placeholderData: keepPreviousData,
    queryFn: () =>
      must(
        api.GET("/api/v1/directories/{directory}/rotations/forecast", {
          params: { path: path(), query: toValue(other) ?? {} },
        }),
      ),
  });

export const useRotations = (ended: boolean) =>
  useInfiniteQuery({
    queryKey: ["rotations", ended, directory],
    initialPageParam: "",
    getNextPageParam: following,
    queryFn: ({ pageParam }) =>
      must(
        api.GET("/api/v1/directories/{directory}/rotations", {
          params: { path: path(), query: { ended, limit: 100, ...after(pageParam) } },
        }),
      ),
  });
