// Who is signed in, where, and what they may do.
import { type InjectionKey, computed, hasInjectionContext, inject, ref } from "vue";
import { type Schemas, api, must, setCsrf, whenSignedOut } from "./client";
import { problemOf } from "./problems";

const session = ref<Schemas["Session"] | null>(null);
const may = ref<ReadonlySet<string>>(new Set());
let asked: Promise<void> | null = null;

export const current = computed(() => session.value);
export const directory = computed(() => session.value?.directory ?? "");
export const can = (operation: string): boolean => may.value.has(operation);
/** What may be done with the client that a page is about: its dossier says so. */
export const MAY: InjectionKey<(operation: string) => boolean> = Symbol("may");
/** Whether the person may do something here: with the client of the page, where it is about one. */
export const useCan = (): ((operation: string) => boolean) => (hasInjectionContext() ? inject(MAY, can) : can);
/** Without any role nothing can be read: the frame then says so instead of showing empty pages. */
export const hasRole = computed(() => may.value.size > 0);

async function take(found: Schemas["Session"]): Promise<void> {
  if (session.value && session.value.directory !== found.directory) tabs?.postMessage("another-directory");
  setCsrf(found.csrf);
  if (found.factor_due) {
    // Nothing is open to them but to set one up.
    may.value = new Set();
    session.value = found;
    return;
  }
  const who = await must(api.GET("/api/v1/directories/{directory}/whoami", { params: { path: { directory: found.directory } } }));
  may.value = new Set(who.may);
  session.value = found;
}

/** Find out once whether the browser is signed in. Throws what went wrong where that could not be found out. */
export function restore(): Promise<void> {
  asked ??= must(api.GET("/api/v1/session"))
    .then(take)
    .catch((problem: unknown) => {
      if (problemOf(problem).status === 401) return;
      asked = null;
      throw problem;
    });
  return asked;
}

/** Find out again: something about who is signed in has changed. */
export function refresh(): Promise<void> {
  asked = null;
  return restore();
}

/** Sign in. Without a directory, in the one whose domain is the login's; of several the error says which. `code`: of a second factor, where the error wants one. */
export async function signIn(login: string, password: string, directory: string, code = ""): Promise<void> {
  await take(await must(api.POST("/api/v1/session", { body: { login, password, directory, code } })));
}

/** Sign in by what a passkey proved. */
export async function signInByPasskey(credential: Record<string, unknown>): Promise<void> {
  await take(await must(api.POST("/api/v1/session/passkey", { body: { credential } })));
}

/** Go on in another directory in which this browser is signed in, from its first page. */
export async function switchDirectory(directory: string): Promise<void> {
  await must(api.PUT("/api/v1/session/directory", { body: { directory } }));
  tabs?.postMessage("another-directory");
  window.location.assign("/");
}

export async function signOut(): Promise<void> {
  await must(api.DELETE("/api/v1/session"));
  forget();
  tabs?.postMessage("signed-out");
}

function forget(): void {
  session.value = null;
  may.value = new Set();
  setCsrf("");
}

whenSignedOut(forget);
// Who signs out in one tab is gone from the others, too; and all tabs are in one directory.
const tabs = typeof BroadcastChannel === "undefined" ? null : new BroadcastChannel("jamb");
tabs?.addEventListener("message", ({ data }) => {
  if (data === "another-directory") return window.location.assign("/");
  forget();
  asked = null;
});
