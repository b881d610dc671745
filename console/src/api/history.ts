// Ledger entries as sentences.
import { isolated } from "@/ui/use/words";
import type { Schemas } from "./client";
import { t } from "@/texts/sentences";

type Entry = Schemas["LedgerEntry"];

const words = (value: unknown): string => {
  if (Array.isArray(value)) return value.map(words).join(", ");
  if (value !== null && typeof value === "object")
    return Object.entries(value)
      .map(([name, one]) => `${name} ${words(one)}`)
      .join("; ");
  return isolated(String(value ?? ""));
};

const without = (all: unknown, left: unknown): unknown =>
  Array.isArray(all) && Array.isArray(left) ? all.filter((one) => !left.includes(one)) : all;

const SENTENCES: Record<string, (entry: Entry) => string> = {
  "client.registered": (entry) => t`registered ${entry.subject.name}`,
  "permission.asked": (entry) => t`asked ${words(entry.after?.permissions)} at ${words(entry.after?.resource)} for ${entry.subject.name}`,
  "access.ended": (entry) => t`ended what ${entry.subject.name} did for ${words(entry.after?.for)}`,
  "consent.granted": (entry) => t`granted ${words(entry.after?.permissions)} at ${words(entry.after?.resource)} to ${entry.subject.name}`,
  "consent.withdrawn": (entry) =>
    t`ended the consent to ${words(without(entry.before?.permissions, entry.after?.permissions))} at ${words(entry.after?.resource)} for ${entry.subject.name}`,
  "ask.dropped": (entry) =>
    t`took back the ask for ${words(entry.before?.permission)} at ${words(entry.before?.resource)} for ${entry.subject.name}`,
  "ask.declined": (entry) =>
    t`declined ${words(entry.before?.permission)} at ${words(entry.before?.resource)} for ${entry.subject.name}, which ${words(entry.before?.["asked by"])} had asked`,
  "consent.end-set": (entry) => t`set an end to a consent at ${words(entry.after?.resource)} for ${entry.subject.name}`,
  "consent.reach-changed": (entry) =>
    t`set the reach of ${words(entry.after?.permissions)} of ${entry.subject.name} to ${words(entry.after?.reach)}`,
  "consent.requested": (entry) => t`requested consent to ${words(entry.after?.permissions)} for ${entry.subject.name}`,
  "request.first-yes": (entry) => t`said the first of two yeses to ${words(entry.after?.permissions)} for ${entry.subject.name}`,
  "request.declined": (entry) => t`declined a request for ${entry.subject.name}`,
  "request.withdrawn": (entry) => t`took back a request for ${entry.subject.name}`,
  "client.disabled": (entry) => t`disabled ${entry.subject.name}`,
  "client.enabled": (entry) => t`enabled ${entry.subject.name} again`,
  "client.tokens-revoked": (entry) => t`revoked the tokens of ${entry.subject.name}`,
  "role.made": (entry) => t`made the role ${entry.subject.name}`,
  "role.changed": (entry) => t`changed the role ${entry.subject.name}`,
  "role.removed": (entry) => t`removed the role ${entry.subject.name}`,
  "role.assigned": (entry) => t`made ${entry.subject.name} ${entry.subject.role}, ${words(entry.after?.reach)}`,
  "role.withdrawn": (entry) => t`withdrew the role ${entry.subject.role} from ${entry.subject.name}`,
  "group.made": (entry) => t`made the group ${entry.subject.name}`,
  "group.changed": (entry) => t`changed the group ${entry.subject.name}`,
  "group.joined": (entry) => t`put people into the group ${entry.subject.name}`,
  "group.removed": (entry) => t`removed the group ${entry.subject.name}`,
  "person.changed": (entry) => t`changed ${entry.subject.name}`,
  "policy.changed": (entry) => t`changed the policy of ${entry.subject.name}`,
  "resource.changed": (entry) => t`changed the resource ${entry.subject.name}`,
  "collections.replaced": (entry) => t`replaced the collections of ${entry.subject.name}`,
  "owners.changed": (entry) => t`made ${words(entry.after?.owners) || t`nobody`} the owner of ${entry.subject.name}`,
  "secret.issued": (entry) => t`issued the secret ${entry.subject.name}`,
  "secret.imported": (entry) => t`took over the secret ${entry.subject.name}`,
  "credential.added": (entry) => t`added the credential ${entry.subject.name}`,
  "credential.disabled": (entry) => t`disabled the credential ${entry.subject.name}`,
  "credential.enabled": (entry) => t`enabled the credential ${entry.subject.name} again`,
  "credential.withdrawn": (entry) => t`withdrew the credential ${entry.subject.name}`,
  "rotation.opened": (entry) => t`opened a rotation of ${words(entry.after?.old)} for ${entry.subject.name}`,
  "rotation.reissued": (entry) => t`issued the new secret of a rotation again for ${entry.subject.name}`,
  "rotation.extended": (entry) => t`let the rotation of ${words(entry.after?.old)} overlap longer for ${entry.subject.name}`,
  "rotation.closed": (entry) => t`closed the rotation of ${words(entry.after?.old)} for ${entry.subject.name}`,
  "rotation.abandoned": (entry) => t`abandoned the rotation of ${words(entry.after?.old)} for ${entry.subject.name}`,
  "handover.made": (entry) => t`handed ${words(entry.after?.credential)} of ${entry.subject.name} over by a link`,
  "handover.opened": (entry) =>
    t`opened a handover link of ${entry.subject.name} from ${words(entry.after?.from) || t`an unknown address`}`,
  "handover.tried-again": (entry) =>
    t`tried a handover link of ${entry.subject.name} that was gone, from ${words(entry.after?.from) || t`an unknown address`}`,
  "handover.wrong-passphrase": (entry) => t`gave a wrong passphrase to a handover link of ${entry.subject.name}`,
  "handover.withdrawn": (entry) => t`took back the handover link to ${words(entry.after?.credential)} of ${entry.subject.name}`,
  "credential.sealed": (entry) => t`sealed ${words(entry.after?.credential)} of ${entry.subject.name} to ${words(entry.after?.to)}`,
  "recipient-key.set": (entry) => t`registered a recipient key for ${entry.subject.name}`,
  "recipient-key.removed": (entry) => t`took away the recipient key of ${entry.subject.name}`,
  "authority.made": (entry) => t`made the authority of ${entry.subject.name} that issues certificates`,
  "finding.waived": (entry) =>
    t`waived a finding of ${entry.subject.client_name} until ${words(entry.after?.until)}: ${words(entry.after?.finding)}`,
  "finding.waiver-ended": (entry) => t`counts a finding of ${entry.subject.client_name} again: ${words(entry.after?.finding)}`,
  "finding.assigned": (entry) =>
    t`gave ${words(entry.after?.to)} a finding of ${entry.subject.client_name}: ${words(entry.after?.finding)}`,
  "finding.answered": (entry) => t`answered for a finding of ${entry.subject.client_name}: ${words(entry.after?.answer)}`,
  "dry-run.started": (entry) =>
    t`started a dry run of ${words(entry.after?.["dry run"])} at ${words(entry.after?.resource)} for ${entry.subject.name}`,
  "dry-run.ended": (entry) => t`ended the dry run at ${words(entry.after?.resource)} for ${entry.subject.name}`,
  "rightsizing.requested": (entry) =>
    t`asks for less at ${words(entry.after?.resource)} for ${entry.subject.name}: ${words(entry.after?.instead)}`,
  "rightsizing.enforced": (entry) => t`right-sized ${entry.subject.name} at ${words(entry.after?.resource)}: ${words(entry.after?.holds)}`,
  "consent.narrowed-to-people": (entry) =>
    t`bounded the consent to ${words(entry.after?.permission)} of ${entry.subject.name} to ${words(entry.after?.for)}`,
  "client.changed": (entry) => t`changed the registration of ${entry.subject.name}`,
  "client.removed": (entry) => t`removed ${entry.subject.name}`,
  "client.restored": (entry) => t`restored ${entry.subject.name}`,
  "publisher.vouched": (entry) => t`vouches for ${entry.subject.name}`,
  "publisher.disowned": (entry) => t`vouches for ${entry.subject.name} no more`,
  "review.started": (entry) => t`started the review ${entry.subject.name}`,
  "review.answered": (entry) => t`answered ${words(entry.after?.review)} for ${entry.subject.name}: ${words(entry.after?.answers)}`,
  "review.closed": (entry) => t`closed the review ${entry.subject.name}`,
  "review.carried-out": (entry) =>
    t`carried out ${words(entry.after?.review)} for ${entry.subject.name}: ${words(entry.after?.permission)}, ${words(entry.after?.answer)}`,
  "calendar.made": (entry) => t`made a calendar feed of ${words(entry.after?.of)}`,
  "client.probed": (entry) => t`probed ${entry.subject.name}: ${words(entry.after?.operation)}`,
  "resource.addressed": (entry) => t`said where ${entry.subject.name} answers`,
  "webhook.added": (entry) => t`let ${entry.subject.name} hear of everything`,
  "webhook.removed": (entry) => t`let ${entry.subject.name} hear of nothing more`,
  "webhook.revived": (entry) => t`had events for ${entry.subject.name} tried anew`,
  "person.added": (entry) => t`added ${entry.subject.name}`,
  "resource.published": (entry) => t`published the resource ${entry.subject.name}`,
  "agreement.requested": (entry) => t`needs another person's yes for ${entry.subject.name}: ${words(entry.after?.act)}`,
  "agreement.first-yes": (entry) => t`said the first of two yeses for ${entry.subject.name}: ${words(entry.after?.act)}`,
  "agreement.given": (entry) => t`agreed for ${entry.subject.name}: ${words(entry.after?.act)}`,
  "agreement.declined": (entry) => t`declined for ${entry.subject.name}: ${words(entry.after?.act)}`,
  "agreement.carried-out": (entry) => t`did what was agreed for ${entry.subject.name}`,
  "provider.saved": (entry) =>
    entry.before ? t`changed the sign-in provider ${entry.subject.name}` : t`named the sign-in provider ${entry.subject.name}`,
  "provider.removed": (entry) => t`removed the sign-in provider ${entry.subject.name}`,
  "initial-access.made": (entry) => t`let software register ${words(entry.after?.clients)} clients as “${entry.subject.name}”`,
  "initial-access.withdrawn": (entry) => t`withdrew the initial access token “${entry.subject.name}”`,
  "sign-in-link.made": (entry) => t`made a sign-in link for ${entry.subject.name}, ${words(entry.after?.given)}`,
  "sign-in-link.used": (entry) => t`chose a password by a sign-in link, as ${entry.subject.name}`,
  "sign-in-link.tried-again": (entry) => t`tried a sign-in link of ${entry.subject.name} that opens nothing any more`,
  "directory.renamed": (entry) => t`renamed ${entry.subject.name} to ${words(entry.after?.name)}`,
  "sealing-key.added": () => t`let another sealing key open the records`,
  "sealing-key.ended": () => t`ended the former sealing key`,
  "signing-key.made": (entry) => t`made the signing key ${entry.subject.name}`,
  "signing-key.withdrawn": (entry) => t`withdrew the signing key ${entry.subject.name}`,
  "directory.moved": (entry) => t`moved ${entry.subject.name} to ${words(entry.after?.address)}`,
  "directory.suspended": (entry) => t`suspended ${entry.subject.name}`,
  "directory.resumed": (entry) => t`resumed ${entry.subject.name}`,
  "directory.opened": (entry) => t`opened ${entry.subject.name}`,
};

// Entries stay as they were written: some are from when an action had another name.
const BEFORE: Record<string, string> = {
  "client.cut-off": "client.tokens-revoked",
  "narrowing.begun": "dry-run.started",
  "narrowing.dropped": "dry-run.ended",
  "narrowing.requested": "rightsizing.requested",
  "narrowing.enforced": "rightsizing.enforced",
};

/** What was done, in a sentence after the name of who did it. */
export function sentence(told: Entry): string {
  const subject = Object.fromEntries(Object.entries(told.subject).map(([part, value]) => [part, isolated(value)]));
  const entry = { ...told, subject };
  return SENTENCES[BEFORE[entry.action] ?? entry.action]?.(entry) ?? `${entry.action} ${entry.subject.name ?? ""}`;
}

/** Before and after as rows of name and values. */
export function changes(entry: Entry): { name: string; before: string; after: string }[] {
  const names = new Set([...Object.keys(entry.before ?? {}), ...Object.keys(entry.after ?? {})]);
  return [...names].map((name) => ({ name, before: words(entry.before?.[name]), after: words(entry.after?.[name]) }));
}
