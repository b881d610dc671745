// Ledger entries as sentences.
import type { Schemas } from "./client";

type Entry = Schemas["LedgerEntry"];

const words = (value: unknown): string => (Array.isArray(value) ? value.join(", ") : String(value ?? ""));

const without = (all: unknown, left: unknown): unknown =>
  Array.isArray(all) && Array.isArray(left) ? all.filter((one) => !left.includes(one)) : all;

const SENTENCES: Record<string, (entry: Entry) => string> = {
  "client.registered": (entry) => `registered ${entry.subject.name}`,
  "permission.asked": (entry) => `asked ${words(entry.after?.permissions)} at ${words(entry.after?.resource)} for ${entry.subject.name}`,
  "consent.granted": (entry) => `granted ${words(entry.after?.permissions)} at ${words(entry.after?.resource)} to ${entry.subject.name}`,
  "consent.withdrawn": (entry) => `ended the consent to ${words(without(entry.before?.permissions, entry.after?.permissions))} at ${words(entry.after?.resource)} for ${entry.subject.name}`,
  "owners.changed": (entry) => `made ${words(entry.after?.owners) || "nobody"} the owner of ${entry.subject.name}`,
  "secret.issued": (entry) => `issued the secret ${entry.subject.name}`,
  "secret.imported": (entry) => `took over the secret ${entry.subject.name}`,
  "credential.withdrawn": (entry) => `withdrew the secret ${entry.subject.name}`,
  "person.added": (entry) => `added ${entry.subject.name}`,
  "resource.published": (entry) => `published the resource ${entry.subject.name}`,
  "directory.opened": (entry) => `opened ${entry.subject.name}`,
};

export const sentence = (entry: Entry): string =>
  SENTENCES[entry.action]?.(entry) ?? `${entry.action} ${entry.subject.name ?? ""}`;

/** Before and after as rows of name and values. */
export function changes(entry: Entry): { name: string; before: string; after: string }[] {
  const names = new Set([...Object.keys(entry.before ?? {}), ...Object.keys(entry.after ?? {})]);
  return [...names].map((name) => ({ name, before: words(entry.before?.[name]), after: words(entry.after?.[name]) }));
}
