// Notices, failing background work and webhooks. Each read has its key, so that a change can say what it made stale.
import { useQuery } from "@tanstack/vue-query";
import { type MaybeRefOrGetter, toValue } from "vue";
import { api, must } from "@/api/client";
import { directory } from "@/api/session";
import { usePages } from "./pages";
import { path } from "./path";

/** What people were told that has a word, the latest first, a few at a time. */
export const useNotices = (word: MaybeRefOrGetter<string>) =>
  usePages(["notices", directory, () => toValue(word)], (cursor) =>
    must(api.GET("/api/v1/directories/{directory}/notices", { params: { path: path(), query: { q: toValue(word), cursor, limit: 8 } } })),
  );

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
