import { expect, test } from "vitest";
import { readToken } from "@/api/token";

const NOW = Date.parse("2031-05-01T12:00:00Z");
const SECONDS = NOW / 1000;
const WORDS = [
  { name: "iss", title: "Issuer", words: "Who made it", source: "RFC 7519 4.1.1" },
  { name: "aud", title: "Audience", words: "Whom it opens", source: "RFC 7519 4.1.3" },
];
const FIT = { iss: "https://i.example", aud: "https://a.example", sub: "c", client_id: "c", iat: SECONDS, exp: SECONDS + 600 };
const HEAD = { alg: "ES256", typ: "at+jwt" };

function token(header: object, claims: object): string {
  const part = (value: object) =>
    btoa(String.fromCharCode(...new TextEncoder().encode(JSON.stringify(value))))
      .replaceAll("+", "-")
      .replaceAll("/", "_")
      .replaceAll("=", "");
  return `${part(header)}.${part(claims)}.x`;
}

test("a fit token is read, its claims in the order of the service's words", () => {
  const found = readToken(`Bearer ${token(HEAD, FIT)}`, WORDS, NOW);
  expect(found?.wrong).toEqual([]);
  expect(found?.claims.slice(0, 2).map((one) => one.name)).toEqual(["iss", "aud"]);
  expect(found?.claims.find((one) => one.name === "exp")?.value).toBe("2031-05-01 12:10:00 UTC (in 10 minutes)");
});

test.each([
  ["unsigned", { ...HEAD, alg: "none" }, FIT, "not signed"],
  ["an ID token", { ...HEAD, typ: "JWT" }, FIT, "not that of an access token"],
  ["over", HEAD, { ...FIT, exp: SECONDS }, "run out"],
  ["not yet", HEAD, { ...FIT, nbf: SECONDS + 1 }, "does not count yet"],
  ["from the future", HEAD, { ...FIT, iat: SECONDS + 61 }, "clock is wrong"],
  ["without audience", HEAD, { ...FIT, aud: undefined }, "lacks aud"],
])("what is wrong is named: %s", (_, header, claims, words) => {
  expect(readToken(token(header, claims), WORDS, NOW)?.wrong.join(" ")).toContain(words);
});

test.each(["", "a.b", "a.b.c", "🦭.e30.x", `${token(HEAD, FIT)}.more`])("what is no token is no token: %s", (text) => {
  expect(readToken(text, WORDS, NOW)).toBeNull();
});

test("reach is said, and what Jamb does not make is not passed over", () => {
  const entries = [{ privileges: ["read"], only: ["board"] }, { privileges: ["send"], all_but: ["crew"] }, { privileges: ["x"] }];
  const found = readToken(token(HEAD, { ...FIT, authorization_details: entries }), WORDS, NOW);
  const said = found?.claims.find((one) => one.name === "authorization_details")?.value;
  expect(said).toBe("read only in board; send in all but crew; x in a way that Jamb does not make");
});
