import { expect, test } from "vitest";
import type { Schemas } from "@/api/client";
import { changes, sentence } from "@/api/history";

const entry = (action: string, before: object | null, after: object | null) =>
  ({ action, subject: { name: "Radio bridge" }, before, after }) as unknown as Schemas["LedgerEntry"];

test("an entry from when its action had another name is told as one of today", () => {
  expect(sentence(entry("client.cut-off", null, {}))).toBe(sentence(entry("client.tokens-revoked", null, {})));
  expect(sentence(entry("client.tokens-revoked", null, {}))).not.toContain("client.");
});

test("an action that the console does not know is told by its name", () => {
  expect(sentence(entry("harbour.closed", null, null))).toBe("harbour.closed Radio bridge");
});

test("what a consent ended is what is held no more", () => {
  const found = sentence(entry("consent.withdrawn", { permissions: ["a", "b"] }, { permissions: ["b"], resource: "berths" }));
  expect(found).toBe("ended the consent to a at berths for Radio bridge");
});

test("before and after stand beside each other, also where one of them is nothing", () => {
  expect(changes(entry("client.changed", { name: "A" }, { name: "B", owners: ["x", "y"] }))).toEqual([
    { name: "name", before: "A", after: "B" },
    { name: "owners", before: "", after: "x, y" },
  ]);
});

test("a name that is written from right to left leaves the words beside it in their place", () => {
  const one = { ...entry("permission.asked", null, { permissions: ["a"], resource: "berths" }), subject: { name: "לוח רציפים 3" } };
  expect(sentence(one as Schemas["LedgerEntry"])).toBe("asked a at berths for \u2068לוח רציפים 3\u2069");
  expect(changes(entry("owners.changed", { owners: ["مها"] }, { owners: ["Maha"] }))).toEqual([
    { name: "owners", before: "\u2068مها\u2069", after: "Maha" },
  ]);
});
