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

// Lists that grow by a page at a time, so that what was chosen in one stays chosen.
export const useDue = (within: MaybeRefOrGetter<number>) =>
  useInfiniteQuery({
    queryKey: ["rotations", "due", directory, () => toValue(within)],
    placeholderData: keepPreviousData,
    initialPageParam: "",
    getNextPageParam: following,
    queryFn: ({ pageParam }) =>
      must(
        api.GET("/api/v1/directories/{directory}/rotations/due", {
          params: { path: path(), query: { within: toValue(within), limit: 100, ...after(pageParam) } },
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
