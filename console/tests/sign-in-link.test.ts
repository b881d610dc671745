import { flushPromises } from "@vue/test-utils";
import { afterEach, beforeEach, expect, test, vi } from "vitest";
import SignInLink from "@/pages/entry/SignInLink.vue";
import { answering, problem, shown } from "./answers";
import { forward } from "./forward";

const LINK = "/api/v1/sign-in-links/17";
const FOUND = {
  login: "tom@alder.example",
  name: "Tom",
  directory: "alder",
  directory_name: "Alder Works",
  made_by: "Ines",
  expires_at: "2026-03-03T09:00:00Z",
  state: "waiting",
};
const PASSWORD = "a bridge over the weir";

beforeEach(() => window.history.replaceState(null, "", "/sign-in-link/17#the-key"));
afterEach(() => {
  forward.reset();
  document.body.innerHTML = "";
});

test("the key leaves the address bar, and goes to the service in a body", async () => {
  const asked = answering({ [`POST ${LINK}/look`]: FOUND });
  await shown(SignInLink, {}, "/sign-in-link/17");
  expect(window.location.hash).toBe("");
  expect(asked).toMatchObject([{ what: `POST ${LINK}/look`, body: { key: "the-key" } }]);
});

test("a password is chosen when both are the same and long enough, once, and signs in", async () => {
  let end = (_: unknown) => {};
  const asked = answering({
    [`POST ${LINK}/look`]: FOUND,
    [`POST ${LINK}/password`]: () => new Promise((resolve) => (end = resolve)),
    "POST /api/v1/session": { directory: "alder", csrf: "c" },
    "GET /api/v1/directories/alder/whoami": { may: [] },
  });
  const { page, router } = await shown(SignInLink, {}, "/sign-in-link/17");
  const [, first, second] = page.findAll("input");
  const able = () => page.get("button").attributes("disabled") === undefined;
  await first?.setValue(PASSWORD);
  await second?.setValue("a bridge over the wear");
  expect([able(), page.get("[role=alert]").text()]).toEqual([false, "The two passwords differ."]);
  await second?.setValue(PASSWORD);
  expect(able()).toBe(true);
  await page.get("form").trigger("submit");
  expect(able()).toBe(false);
  const said = () => asked.map((one) => one.what);
  await vi.waitFor(() => expect(said()).toContain(`POST ${LINK}/password`));
  end(204);
  await vi.waitFor(() => expect(router.currentRoute.value.path).toBe("/"));
  expect(said().filter((what) => what.endsWith("/password"))).toHaveLength(1);
  expect(asked.find((one) => one.what === "POST /api/v1/session")?.body).toEqual({
    login: FOUND.login,
    password: PASSWORD,
    directory: "alder",
    code: "",
  });
});

test.each([
  ["used", "tell Ines at once"],
  ["expired", "it ran out"],
  ["replaced", "replaced by a later one"],
])("a link that is %s says what to do, and has no form", async (state, words) => {
  answering({ [`POST ${LINK}/look`]: { ...FOUND, state } });
  const { page } = await shown(SignInLink, {}, "/sign-in-link/17");
  expect(page.get("[role=alert]").text()).toContain(words);
  expect(page.find("form").exists()).toBe(false);
});

test("what the service refuses is told, and what was typed stays", async () => {
  answering({ [`POST ${LINK}/look`]: FOUND, [`POST ${LINK}/password`]: () => problem(422, "Too common.") });
  const { page } = await shown(SignInLink, {}, "/sign-in-link/17");
  for (const input of page.findAll("input[type=password]")) await input.setValue(PASSWORD);
  await page.get("form").trigger("submit");
  await flushPromises();
  expect(page.get("[role=alert]").text()).toContain("Too common.");
  expect(page.findAll("input[type=password]").map((one) => (one.element as HTMLInputElement).value)).toEqual([PASSWORD, PASSWORD]);
});
