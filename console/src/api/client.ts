// Typed calls to Jamb's API. The types come from the service's own description.
import createClient, { type Middleware } from "openapi-fetch";
import { ApiError, problemFrom } from "./problems";
import type { components, paths } from "./schema.generated";

export type Schemas = components["schemas"];

let csrf = "";
export const setCsrf = (value: string): void => void (csrf = value);

const onSignedOut = new Set<() => void>();
export const whenSignedOut = (listener: () => void): void => void onSignedOut.add(listener);

const guard: Middleware = {
  onRequest({ request }) {
    if (request.method !== "GET" && csrf) request.headers.set("X-Jamb-CSRF", csrf);
    return request;
  },
  onResponse({ response, schemaPath }) {
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
