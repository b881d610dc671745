import { afterEach, expect, test, vi } from "vitest";
import { api, must } from "@/api/client";
import { ApiError, problemOf } from "@/api/problems";
import { can, current, hasRole, refresh, signIn, signOut } from "@/api/session";
import ProblemNote from "@/ui/ProblemNote.vue";
import { answering, problem, shown } from "./answers";
import { forward } from "./forward";

afterEach(forward.reset);

const SESSION = { directory: "alder", csrf: "c-1", person: { name: "Ines" } };
const WHO = { may: ["clients.read"], roles: ["auditor"] };
const SIGNED_IN = {
  "POST /api/v1/session": SESSION,
  "GET /api/v1/session": SESSION,
  "GET /api/v1/directories/alder/whoami": WHO,
};

test("who signs in may do what the service says, and every change bears the token against forgery", async () => {
  const asked = answering({ ...SIGNED_IN, "DELETE /api/v1/session": 204 });
  await signIn("ines@alder.example", "a bridge over the weir", "");
  expect([current.value?.directory, can("clients.read"), can("clients.register"), hasRole.value]).toEqual(["alder", true, false, true]);
  await signOut();
  expect([current.value, can("clients.read")]).toEqual([null, false]);
  const [first, read, last] = asked;
  expect([first?.headers.get("X-Jamb-CSRF"), read?.headers.get("X-Jamb-CSRF"), last?.headers.get("X-Jamb-CSRF")]).toEqual([
    null,
    null,
    "c-1",
  ]);
});

test("a session that ended signs the browser out; a wrong password does not", async () => {
  answering({ ...SIGNED_IN, "GET /api/v1/directories": () => problem(401, "Sign in first.") });
  await refresh();
  expect(current.value?.directory).toBe("alder");
  answering({ "POST /api/v1/session": () => problem(401, "Login or password is wrong.") });
  await expect(signIn("ines@alder.example", "wrong", "")).rejects.toThrow("wrong");
  expect(current.value?.directory).toBe("alder");
  answering({ "GET /api/v1/directories/alder/clients": () => problem(401, "Your session has ended.") });
  const path = { directory: "alder" };
  await expect(must(api.GET("/api/v1/directories/{directory}/clients", { params: { path } }))).rejects.toThrow("ended");
  expect(current.value).toBeNull();
});

test("an error is told with the field, what was sent, what is allowed and what to do", async () => {
  const fields = [{ field: "name", sent: "Quay", allowed: "a name that is free", next_step: "Choose another." }];
  const error = await must(Promise.resolve({ error: { detail: "Taken.", fields }, response: new Response(null, { status: 409 }) })).catch(
    (e) => e,
  );
  const { page } = await shown(ProblemNote, { error });
  expect(page.get("[role=alert]").text()).toContain("Taken.");
  expect(page.get("li").text()).toBe("name: sent Quay; allowed: a name that is free Choose another.");
  expect(page.find("button").exists()).toBe(false);
  page.unmount();
});

test("what waits for another person leads to it and is no failure; no answer says that nothing is known", async () => {
  const made = { kind: "request", id: "7" };
  const waiting = new ApiError({ ...problemOf(null), status: 409, detail: "It waits.", made });
  const again = vi.fn();
  const { page } = await shown(ProblemNote, { error: waiting, retry: again });
  expect(page.get("a").attributes("href")).toBe("/request/7");
  await page.get("button").trigger("click");
  expect(again).toHaveBeenCalledOnce();
  page.unmount();
  const { page: away } = await shown(ProblemNote, { error: new TypeError("Failed to fetch") });
  expect(away.text()).toContain("whether anything was changed is not known");
  away.unmount();
});
