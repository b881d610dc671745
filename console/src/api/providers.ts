// Outside OpenID providers by which somebody may sign in, as the service offers them.
import { type Schemas, api } from "./client";

/** Return the providers for a login or a directory; none where they cannot be had: the password still does. */
export async function offeredTo(login: string, directory: string): Promise<Schemas["ProviderOffered"][]> {
  if (!directory && !login.includes("@")) return [];
  const { data } = await api.POST("/api/v1/session/providers", { body: { login, directory } }).catch(() => ({ data: undefined }));
  return data ?? [];
}

const KEPT = "jamb.asked";

/** Go to a provider and come back to a page of ours. What stands behind its # is kept here: it is for nobody else. */
export function goTo(provider: Schemas["ProviderOffered"], then: string): void {
  const [path, fragment] = [then.split("#")[0] ?? "/", then.split("#")[1] ?? ""];
  if (fragment) sessionStorage.setItem(KEPT, fragment);
  window.location.assign(`${provider.href}?then=${encodeURIComponent(path)}`);
}

/** Return what stood behind the # before somebody went to a provider, once. */
export function broughtBack(): string {
  const kept = sessionStorage.getItem(KEPT) ?? "";
  sessionStorage.removeItem(KEPT);
  return kept;
}

/** Why a provider did not sign somebody in: each has its words among the texts. */
export const REFUSALS: ReadonlySet<string> = new Set(["declined", "late", "failed", "unknown", "inactive", "linked"]);
