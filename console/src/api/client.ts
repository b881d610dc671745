// Typed calls to Jamb's API. The types come from the service's own description.
import createClient, { type Middleware } from "openapi-fetch";
import { confirmed } from "./confirmation";
import { ApiError, problemFrom } from "./problems";
import type { components, paths } from "./schema.generated";

export type Schemas = components["schemas"];

let csrf = "";
export const setCsrf = (value: string): void => void (csrf = value);

const onSignedOut = new Set<() => void>();
export const whenSignedOut = (listener: () => void): void => void onSignedOut.add(listener);

// A request is read once: what may have to be sent again is kept until it is answered.
const waiting = new Map<string, Request>();

async function wantsConfirmation(response: Response): Promise<boolean> {
  if (response.status !== 403) return false;
  const body: unknown = await response
    .clone()
    .json()
    .catch(() => null);
  return problemFrom(body, 403).type.endsWith("confirmation-wanted");
}

const guard: Middleware = {
  onRequest({ request, id }) {
    if (request.method !== "GET" && csrf) {
      request.headers.set("X-Jamb-CSRF", csrf);
      waiting.set(id, request.clone());
    }
    return request;
  },
  onError({ id }) {
    waiting.delete(id);
  },
  async onResponse({ response, schemaPath, id }) {
    const again = waiting.get(id);
    waiting.delete(id);
    if (again && (await wantsConfirmation(response)) && (await confirmed())) return fetch(again);
    if (response.status === 401 && schemaPath !== "/api/v1/session") onSignedOut.forEach((listener) => listener());
  },
};

export const api = createClient<paths>({ baseUrl: "/" });
api.use(guard);

/** Return the data of an answer, or throw its problem. */
export async function must<T>(call: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  const { data, error, response } = await call;
  if (!response.ok) throw new ApiError(problemFrom(error, response.status));
  return data as T;
}
