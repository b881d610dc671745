// What was done here within the hour and can be undone: by the opposite change, which is let in and judged as every other.
import { computed, ref } from "vue";
import { type Change, type Schemas, change, whenChanged } from "./client";
import { can, current, directory } from "./session";
import { t } from "@/texts/sentences";

export interface Undo {
  id: number;
  at: number;
  /** The directory and person of it: another one does not undo it. */
  whose: string;
  /** What was done, as a sentence. */
  said: string;
  path: string;
  body: unknown;
  /** Of what was changed: where it is another meanwhile, nothing is overwritten. Only where something is put. */
  version?: string;
}
export const UNDO_MS = 3_600_000;
const MOST_KEPT = 20;
const KEY = "jamb.undo";

type Opposite = Pick<Undo, "said" | "path" | "body" | "version">;
interface Rule {
  done: RegExp;
  method: "POST" | "DELETE";
  /** What undoing takes, where that is another right than doing; whoever lacks it is not offered it. */
  needs?: string;
  undo: (path: string, sent: never, got: never) => Opposite | null;
}
const sentReach = ({ kind, collections }: Schemas["Reach"]) => ({ kind, collections });
// What is done by one address and undone by another, or the same with the opposite. What ended with it, as tokens and
// sign-ins, does not come back; a credential that was withdrawn, or a consent, is nobody's to undo alone.
const RULES: Rule[] = [
  {
    done: /\/clients\/[^/]+\/state$/,
    method: "POST",
    undo: (path, sent: Schemas["StateChange"], got: Schemas["Client"]) => ({
      said: sent.state === "disabled" ? t`You disabled ${got.name}.` : t`You enabled ${got.name}.`,
      path,
      body: { state: sent.state === "disabled" ? "live" : "disabled", reason: "Undone" },
    }),
  },
  {
    done: /\/credentials\/[^/]+\/state$/,
    method: "POST",
    undo: (path, sent: Schemas["CredentialStateChange"], got: Schemas["Credential"]) => ({
      said: sent.enabled ? t`You enabled the credential ${got.hint}.` : t`You disabled the credential ${got.hint}.`,
      path,
      body: { enabled: !sent.enabled, reason: "Undone" },
    }),
  },
  {
    done: /\/clients\/[^/]+\/removal$/,
    method: "POST",
    needs: "clients.restore",
    undo: (path, _, got: Schemas["Removed"]) => ({
      said: t`You removed ${got.name}.`,
      path: path.replace(/removal$/, "restoration"),
      body: undefined,
    }),
  },
  {
    done: /\/clients\/[^/]+\/asks\/[^/]+$/,
    method: "DELETE",
    undo: (path, _, got: Schemas["Ask"]) => ({
      said: t`You took back the ask for ${got.permission} at ${got.resource}.`,
      path: path.replace(/\/[^/]+$/, ""),
      body: { resource: got.resource, permissions: [got.permission], kind: got.kind, reason: got.reason, reach: sentReach(got.reach) },
    }),
  },
  {
    done: /\/findings\/[^/]+\/waiver$/,
    method: "POST",
    needs: "findings.end-waiver",
    undo: (path, _, got: Schemas["KeptFinding"]) => ({
      said: t`You waived a finding of ${got.client_name}: ${got.title}.`,
      path: `${path}/ending`,
      body: undefined,
    }),
  },
  {
    done: /\/people\/[^/]+$/,
    method: "POST",
    undo: (path, sent: Schemas["PersonChange"], got: Schemas["Person"]) =>
      typeof sent.active === "boolean"
        ? {
            said: sent.active ? t`You made ${got.name} active.` : t`You made ${got.name} inactive.`,
            path,
            body: { active: !sent.active, no_second_factor: false, no_provider: false },
          }
        : null,
  },
];

const kept = ref<Undo[]>(read());
const clock = ref(Date.now());
const whose = () => `${directory.value}/${current.value?.person.id ?? ""}`;

/** What this person did in this tab within the hour, the newest first. */
export const undoable = computed(() => kept.value.filter((one) => one.whose === whose() && clock.value - one.at < UNDO_MS));
export const tick = (): void => void (clock.value = Date.now());

function read(): Undo[] {
  try {
    const found: unknown = JSON.parse(sessionStorage.getItem(KEY) ?? "[]");
    return Array.isArray(found) ? (found as Undo[]) : [];
  } catch {
    return [];
  }
}
function keep(wanted: Undo[]): void {
  kept.value = wanted.slice(0, MOST_KEPT);
  sessionStorage.setItem(KEY, JSON.stringify(kept.value));
}

/** Offer to undo what was done; where its address alone does not tell how, its page does. */
export function offer(opposite: Opposite): void {
  tick();
  const id = Math.max(0, ...kept.value.map((one) => one.id)) + 1;
  keep([{ ...opposite, id, at: clock.value, whose: whose() }, ...kept.value]);
}
export const forget = (id: number): void => keep(kept.value.filter((one) => one.id !== id));

/** Undo it. Throws the problem where that is refused; then it stays on offer. */
export async function undo(one: Undo): Promise<void> {
  await change(one.path, one.body, one.version);
  forget(one.id);
}

/** Return how a change is undone; null: it is not, or its page knows how. */
export function oppositeOf({ method, path, sent, got }: Change): Opposite | null {
  const rule = RULES.find((one) => one.method === method && one.done.test(path));
  if (!rule || (rule.needs && !can(rule.needs))) return null;
  return rule.undo(path, sent as never, got as never);
}

whenChanged((done) => {
  const opposite = oppositeOf(done);
  if (opposite) offer(opposite);
});
