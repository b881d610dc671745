// Notices, failing background work and webhooks. Each read has its key, so that a change can say what it made stale.
import { useQuery } from "@tanstack/vue-query";
import { api, must } from "@/api/client";
import { directory } from "@/api/session";
import { path } from "./path";

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
