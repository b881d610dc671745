// Each change that is done by one address and undone by another says how; what it must not undo, it does not offer.
import { expect, test, vi } from "vitest";
import { oppositeOf } from "@/api/undo";

const may = new Set(["clients.restore", "findings.end-waiver"]);
vi.mock("@/api/session", async (original) => ({
  ...(await original<object>()),
  can: (operation: string) => may.has(operation),
}));

const HERE = "/api/v1/directories/quay";
const done = (method: string, path: string, sent: unknown, got: unknown) => oppositeOf({ method, path: HERE + path, sent, got });

test.each([
  ["a client", "/clients/c1/state", { state: "disabled" }, { name: "Board" }, "/clients/c1/state", { state: "live", reason: "Undone" }],
  ["its enabling", "/clients/c1/state", { state: "live" }, { name: "Board" }, "/clients/c1/state", { state: "disabled", reason: "Undone" }],
  [
    "a credential",
    "/clients/c1/credentials/k/state",
    { enabled: false },
    { hint: "x" },
    "/clients/c1/credentials/k/state",
    { enabled: true, reason: "Undone" },
  ],
  ["a removal", "/clients/c1/removal", { reason: "" }, { name: "Board" }, "/clients/c1/restoration", undefined],
  [
    "a waiver",
    "/audit/findings/f/waiver",
    { days: 3 },
    { client_name: "Board", title: "Old" },
    "/audit/findings/f/waiver/ending",
    undefined,
  ],
  [
    "a person",
    "/people/p1",
    { active: false, no_second_factor: false },
    { name: "Ines" },
    "/people/p1",
    { active: true, no_second_factor: false },
  ],
])("%s", (_, path, sent, got, back, body) => {
  expect(done("POST", path, sent, got)).toMatchObject({ path: HERE + back, body });
});

test("an ask that was taken back is made again as it was", () => {
  const reach = { kind: "only", collections: ["south"], words: "only in South" };
  const ask = { resource: "berths", permission: "berths.view", kind: "application", reason: "Board", reach };
  expect(done("DELETE", "/clients/c1/asks/a1", null, ask)).toMatchObject({
    path: `${HERE}/clients/c1/asks`,
    body: {
      resource: "berths",
      permissions: ["berths.view"],
      kind: "application",
      reason: "Board",
      reach: { kind: "only", collections: ["south"] },
    },
  });
});

test.each([
  ["a second factor that was taken off", "POST", "/people/p1", { no_second_factor: true }, { name: "Ines" }],
  ["a credential that was withdrawn", "POST", "/clients/c1/credentials/k/withdrawal", { reason: "" }, { hint: "x" }],
  ["a consent that was granted", "POST", "/clients/c1/consents", { asks: [] }, []],
  ["a role that was assigned", "POST", "/roles/registrar/assignments", { holders: ["ines"] }, {}],
])("%s is not offered", (_, method, path, sent, got) => {
  expect(done(method, path, sent, got)).toBeNull();
});

test("what somebody else would have to undo is not offered", () => {
  may.clear();
  expect(done("POST", "/clients/c1/removal", { reason: "" }, { name: "Board" })).toBeNull();
  expect(done("POST", "/clients/c1/state", { state: "disabled" }, { name: "Board" })).not.toBeNull();
});
