import type { Schemas } from "@/api/client";
import { plural } from "@/texts/plural";
import { counted, t, tag } from "@/texts/sentences";
// Words that several pages share.
const numbers: Partial<Record<string, Intl.NumberFormat>> = {};
/** A number with its thousands apart; `digits`: so many behind the point at most. */
export const figure = (many: number, digits = 3): string =>
  (numbers[`${tag()} ${digits}`] ??= new Intl.NumberFormat(tag(), { maximumFractionDigits: digits })).format(many);
/** A share (0 to 1) in percent: what is little is not said to be none, nor what is nearly all to be all. */
export function percent(share: number): string {
  const whole = Math.round(100 * share);
  if (whole === 0 && share > 0) return t`under 1 %`;
  return whole === 100 && share < 1 ? t`over 99 %` : t`${whole} %`;
}
/** So many things. `one`: what one is called, in English; `more`: what several are. */
export const count = (many: number, one: string, more = plural(one)): string => counted(many, figure(many), one, more);

// Letters that are written from right to left.
const FROM_RIGHT = /[\u0590-\u08ff\ufb1d-\ufdff\ufe70-\ufefc\u{10800}-\u{10fff}\u{1e800}-\u{1efff}]/u;
/** A name within a sentence: one that is written from right to left leaves what stands beside it in its place. */
export const isolated = (name: string): string => (FROM_RIGHT.test(name) ? `\u2068${name}\u2069` : name);

export const acting = (kind: string, person = ""): string =>
  kind === "application" ? t`as itself` : person ? t`for ${isolated(person)}` : t`for whoever is signed in`;

/** Whether people sign in to a client of this kind by their browser, which is then sent back to it. */
export const signsIn = (kind: string): boolean => kind === "web" || kind === "browser" || kind === "native";
/** Whether people sign in to a client of this kind at all, by a browser or a code. */
export const forPeople = (kind: string): boolean => signsIn(kind) || kind === "device";
/** Kinds of client that can keep a secret or a key. */
export const confidential = (kind: string): boolean => kind === "service" || kind === "web";

const URN = "urn:ietf:params:oauth:grant-type:";
const BY_CODE = ["authorization_code", "refresh_token"] as const;
const AS_ITSELF = ["client_credentials", `${URN}jwt-bearer`, `${URN}token-exchange`] as const;
/** Ways to a token that a kind of client has, as the service knows them (RFC 7591 section 2). */
export const GRANT_TYPES: Record<string, readonly Schemas["GrantType"][]> = {
  service: AS_ITSELF,
  web: [...BY_CODE, ...AS_ITSELF],
  browser: BY_CODE,
  native: [...BY_CODE, `${URN}device_code`],
  device: [`${URN}device_code`, "refresh_token"],
};

/** A grant type as people say it: without the name of its registry. */
export const grant = (type: string): string => type.slice(type.lastIndexOf(":") + 1).replaceAll(/[-_]/g, " ");

interface Weighty {
  effect: string;
  data_class: string;
}
/** What a tired reader must not miss: control, restricted data, and writing to personal data. */
export const grave = (one: Weighty): boolean =>
  one.effect === "control" || one.data_class === "restricted" || (one.effect === "write" && one.data_class === "personal");

/** What is held, each with where it counts. */
export const held = (rows: { permission: string; reach: { words: string } }[]): string[] =>
  rows.map((one) => `${one.permission}, ${one.reach.words}`);

/** The pages about a client that its users are shown, each with what it is. */
export function pagesOf(client: { client_uri: string; policy_uri: string; tos_uri: string } | null | undefined): [string, string][] {
  const named: [string, string][] = [
    [t`Home page`, client?.client_uri ?? ""],
    [t`Privacy policy`, client?.policy_uri ?? ""],
    [t`Terms of use`, client?.tos_uri ?? ""],
  ];
  return named.filter(([, address]) => address);
}

const asCounted = new Intl.Collator("en", { numeric: true });
/** Return names as people count them: berth-2 before berth-10. */
export const inOrder = (names: readonly string[]): string[] => [...names].sort(asCounted.compare);
