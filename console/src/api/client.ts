// Typed calls to Jamb's API. The types come from the service's own description.
import createClient from "openapi-fetch";
import { confirmed, signedInAgain } from "./confirmation";
import { send } from "./network";
import { ApiError, problemFrom } from "./problems";
import type { components, paths } from "./schema.generated";

export type Schemas = components["schemas"];

let csrf = "";
export const setCsrf = (value: string): void => void (csrf = value);

const onSignedOut = new Set<() => void>();
export const whenSignedOut = (listener: () => void): void => void onSignedOut.add(listener);

/** A change that was done: what was sent, and what came back. */
export interface Change {
  method: string;
  path: string;
  sent: unknown;
  got: unknown;
}
const onChanged = new Set<(done: Change) => void>();
/** Hear of every change that was done. */
export const whenChanged = (listener: (done: Change) => void): void => void onChanged.add(listener);
// What only asks, though its question is too long for an address.
const ASKS = /\/(preview|lookup|leaks|trial|draft|explanation|check|probe|evaluation|comparison)$/;

async function wantsConfirmation(response: Response): Promise<boolean> {
  if (response.status !== 403) return false;
  const body: unknown = await response
    .clone()
    .json()
    .catch(() => null);
  return problemFrom(body, 403).type.endsWith("confirmation-wanted");
}

function guarded(request: Request): Request {
  const copy = request.clone();
  if (request.method !== "GET" && csrf) copy.headers.set("X-Jamb-CSRF", csrf);
  return copy;
}

async function speak(request: Request): Promise<Response> {
  const { method } = request;
  const path = new URL(request.url).pathname;
  if (method === "GET" || ASKS.test(path)) return admitted(request);
  const sent = await bodyOf(request);
  const response = await admitted(request);
  if (response.ok) {
    const got = await bodyOf(response);
    onChanged.forEach((listener) => listener({ method, path, sent, got }));
  }
  return response;
}

const bodyOf = (one: Request | Response): Promise<unknown> =>
  one
    .clone()
    .json()
    .catch(() => null);

/** Send a request. Where the session ended, or the person is to show who they are, they are asked over the page first. */
async function admitted(request: Request): Promise<Response> {
  const signedIn = csrf !== "";
  let response = await send(guarded(request));
  if (response.status === 401 && !new URL(request.url).pathname.startsWith("/api/v1/session")) {
    if (signedIn && (await signedInAgain())) response = await send(guarded(request));
    if (response.status === 401) onSignedOut.forEach((listener) => listener());
  }
  if (signedIn && (await wantsConfirmation(response)) && (await confirmed())) return send(guarded(request));
  return response;
}

export const api = createClient<paths>({ baseUrl: "/", fetch: speak });

/** Return the data of an answer, or throw its problem. */
export async function must<T>(call: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  const { data, error, response } = await call;
  if (!response.ok) throw new ApiError(problemFrom(error, response.status));
  return data as T;
}

/** Do a change that is known by its address alone, or throw its problem. `version`: of what is put there. */
export async function change(path: string, body: unknown, version?: string): Promise<void> {
  const headers = { ...(body ? { "Content-Type": "application/json" } : {}), ...(version ? { "If-Match": `"${version}"` } : {}) };
  const sent = { method: version ? "PUT" : "POST", headers, body: body ? JSON.stringify(body) : null };
  const response = await speak(new Request(new URL(path, location.origin), sent));
  if (!response.ok) throw new ApiError(problemFrom(await bodyOf(response), response.status));
}
