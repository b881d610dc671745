// What is long comes a page at a time; what was found earlier, or not yet, says so.
import { flushPromises } from "@vue/test-utils";
import { afterEach, expect, test } from "vitest";
import { refresh } from "@/api/session";
import Escalation from "@/pages/audit/Escalation.vue";
import Holders from "@/pages/resources/Holders.vue";
import { answering, shown } from "./answers";
import { forward } from "./forward";

const HERE = "/api/v1/directories/port";

afterEach(() => {
  forward.reset();
  document.body.innerHTML = "";
});

/** Answer whoever is signed in to a directory. */
async function answeringThem(answers: Parameters<typeof answering>[0]) {
  const asked = answering({
    "GET /api/v1/session": { directory: "port", person: { id: "1" }, csrf: "c", others: [] },
    [`GET ${HERE}/whoami`]: { may: [] },
    ...answers,
  });
  await refresh();
  asked.length = 0;
  return asked;
}

test("who can do this goes on by another page, and begins anew with another question", async () => {
  const client = (name: string) => ({
    client_id: name,
    client_name: name,
    live: true,
    kind: "application",
    permission: "read",
    reach: { words: "everywhere" },
    through: "",
    person: "",
    expires_at: null,
  });
  const answer = (operation: string, names: string[], next: string | null) => ({
    resource: "quay",
    operation: { name: operation, title: operation },
    object: null,
    object_in: [],
    clients: names.map(client),
    clients_in_all: 3,
    people: [],
    people_in_all: 0,
    next,
  });
  const asked = await answeringThem({
    [`GET ${HERE}/resources/quay/holders`]: (at: URL) => {
      const operation = at.searchParams.get("operation") ?? "";
      return at.searchParams.get("cursor") === "more" ? answer(operation, ["Third"], null) : answer(operation, ["First", "Second"], "more");
    },
  });
  const operations = ["read", "write"].map((name) => ({ name, title: name, concerns_object: false }));
  const { page } = await shown(Holders, { resource: { name: "quay", object_name: "berth", operations } });
  const names = () => page.findAll("tbody tr td:first-child a").map((link) => link.text());
  const choose = async (operation: string) => {
    await page.find("select").setValue(operation);
    await flushPromises();
  };
  await choose("read");
  expect(names()).toEqual(["First", "Second"]);
  await page
    .findAll("button")
    .find((one) => one.text() === "Show more")
    ?.trigger("click");
  await flushPromises();
  expect(names()).toEqual(["First", "Second", "Third"]);
  expect(page.text()).not.toContain("Show more");
  await choose("write");
  expect(names()).toEqual(["First", "Second"]);
  expect(asked).toHaveLength(3);
});

test.each([
  ["not looked for yet", { found: false, as_of: null }, "Nobody looked for escalation paths yet"],
  ["of before", { found: true, as_of: "2026-03-01T09:00:00Z" }, "Records were changed since"],
  ["of now", { found: true, as_of: null }, "No escalation path was found."],
])("escalation paths that are %s say so", async (_, state, words) => {
  const answer = { weak_below: 24, strong_from: 36, pairs: 0, paths: [], cuts: [], ...state };
  await answeringThem({ [`GET ${HERE}/audit/escalation-paths`]: answer });
  const { page } = await shown(Escalation);
  expect(page.text()).toContain(words);
  expect(page.text().includes("No escalation path was found.")).toBe(state.found);
});
