// Read an access token in the browser: it is never sent. The words for its claims come from the service, as a table.
import { t } from "@/texts/sentences";
import { count } from "@/ui/use/words";
export interface Words {
  name: string;
  title: string;
  words: string;
  source: string;
}
export interface ReadClaim {
  name: string;
  value: string;
  words: string;
  source: string;
}
export interface Reading {
  header: ReadClaim[];
  claims: ReadClaim[];
  wrong: string[];
}

type Members = Record<string, unknown>;
const MOMENTS = ["iat", "nbf", "exp"];

function part(text: string): Members {
  const base64 = text.replaceAll("-", "+").replaceAll("_", "/");
  const bytes = Uint8Array.from(atob(base64), (one) => one.charCodeAt(0));
  const found: unknown = JSON.parse(new TextDecoder("utf-8", { fatal: true }).decode(bytes));
  if (typeof found !== "object" || found === null || Array.isArray(found)) throw new Error(t`no object`);
  return found as Members;
}

function distance(seconds: number): string {
  const minutes = Math.round(seconds / 60);
  if (minutes === 0) return t`now`;
  const size = Math.abs(minutes);
  const words = size < 120 ? count(size, "minute") : count(Math.floor(size / 60), "hour");
  return minutes > 0 ? t`in ${words}` : t`${words} ago`;
}

function reach(entry: Members): string {
  const names = (entry.privileges as string[] | undefined)?.join(", ") ?? "";
  if (Array.isArray(entry.only)) return t`${names} only in ${entry.only.join(", ")}`;
  if (Array.isArray(entry.all_but)) return t`${names} in all but ${entry.all_but.join(", ")}`;
  return t`${names} in a way that Jamb does not make`;
}

function said(name: string, value: unknown, now: number): string {
  if (MOMENTS.includes(name) && typeof value === "number" && Math.abs(value) < 1e11) {
    const moment = new Date(value * 1000).toISOString().slice(0, 19).replace("T", " ");
    return t`${moment} UTC (${distance(value - now / 1000)})`;
  }
  if (name === "authorization_details" && Array.isArray(value)) return value.map((one) => reach(one as Members)).join("; ");
  return typeof value === "string" ? value : JSON.stringify(value);
}

function wrong(header: Members, claims: Members, now: number): string[] {
  const found: string[] = [];
  const seconds = now / 1000;
  const kind = String(header.typ ?? "")
    .toLowerCase()
    .replace(/^application\//, "");
  if (!["at+jwt", "probe+jwt"].includes(kind))
    found.push(t`Its type is not that of an access token: perhaps it is an ID token or an assertion.`);
  if (String(header.alg ?? "none").toLowerCase() === "none") found.push(t`It is not signed: anyone could have made it.`);
  const missing = ["iss", "aud", "sub", "client_id", "iat", "exp"].filter((one) => !(one in claims));
  if (missing.length) found.push(t`It lacks ${missing.join(", ")}, which an access token must have.`);
  if (typeof claims.exp === "number" && claims.exp <= seconds) found.push(t`It has run out: fetch another.`);
  if (typeof claims.nbf === "number" && claims.nbf > seconds) found.push(t`It does not count yet.`);
  if (typeof claims.iat === "number" && claims.iat > seconds + 60) found.push(t`It was made in the future: a clock is wrong.`);
  return found;
}

/** Return what a token says; null for what is no JWT. */
export function readToken(text: string, words: Words[], now: number): Reading | null {
  const parts = text
    .trim()
    .replace(/^bearer\s+/i, "")
    .split(".");
  if (parts.length !== 3) return null;
  try {
    const [header, claims] = [part(parts[0] ?? ""), part(parts[1] ?? "")];
    const place = (name: string) => {
      const found = words.findIndex((one) => one.name === name);
      return found < 0 ? words.length : found;
    };
    const rows = (members: Members): ReadClaim[] =>
      Object.keys(members)
        .sort((a, b) => place(a) - place(b))
        .map((name) => {
          const known = words.find((one) => one.name === name);
          return {
            name,
            value: said(name, members[name], now),
            words: known?.words ?? t`not one that Jamb makes`,
            source: known?.source ?? "",
          };
        });
    return { header: rows(header), claims: rows(claims), wrong: wrong(header, claims, now) };
  } catch {
    return null;
  }
}
