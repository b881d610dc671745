import { afterEach, expect, test, vi } from "vitest";
import { api, must } from "@/api/client";
import { sessionOver, settleSession } from "@/api/confirmation";
import { ApiError, problemOf, wasDone } from "@/api/problems";
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
  const reading = must(api.GET("/api/v1/directories/{directory}/clients", { params: { path } }));
  // Whoever does not sign in again over the page has left it.
  await vi.waitFor(() => expect(sessionOver.value).toBe(true));
  settleSession(false);
  await expect(reading).rejects.toThrow("ended");
  expect(current.value).toBeNull();
});

test("whoever signs in again over the page goes on with the same call, and it is done once", async () => {
  let over = true;
  const asked = answering({
    ...SIGNED_IN,
    "POST /api/v1/session": { ...SESSION, csrf: "c-2" },
    "POST /api/v1/directories/alder/clients": () => (over ? problem(401, "Your session has ended.") : { id: "k" }),
  });
  await refresh();
  const made = must(registering());
  await vi.waitFor(() => expect(sessionOver.value).toBe(true));
  await signIn("ines@alder.example", "a bridge over the weir", "alder");
  over = false;
  settleSession(true);
  await expect(made).resolves.toMatchObject({ id: "k" });
  const sent = asked.filter((one) => one.what.endsWith("/clients"));
  expect(sent.map((one) => one.headers.get("X-Jamb-CSRF"))).toEqual(["c-1", "c-2"]);
});

const registering = () =>
  api.POST("/api/v1/directories/{directory}/clients", { params: { path: { directory: "alder" } }, body: {} as never });

test("a change whose answer is lost is asked for again under its name, and says that it was done", async () => {
  let times = 0;
  const done = () => problem(409, "Done before.", { type: "urn:x:done-before", made: { kind: "secret", id: "s" } });
  const asked = answering({
    "POST /api/v1/directories/alder/clients": () => {
      if (times++ === 0) throw new TypeError("Failed to fetch");
      return done();
    },
  });
  const error = await must(registering()).catch((problem: unknown) => problem);
  expect([wasDone(error), problemOf(error).detail]).toEqual([true, "It was done. Only the answer was lost on the way."]);
  expect(problemOf(error).next_step).toContain("issue another");
  const [first, second] = asked.map((one) => one.headers.get("Idempotency-Key"));
  expect(first).toMatch(/^[0-9a-f]{32}$/);
  expect(second).toBe(first);
});

test("what is pressed twice is asked for once; another change has another name", async () => {
  const asked = answering({ "POST /api/v1/directories/alder/clients": () => ({ id: "k" }) });
  const both = await Promise.all([must(registering()), must(registering())]);
  expect([both, asked.length]).toEqual([[{ id: "k" }, { id: "k" }], 1]);
  await must(registering());
  expect(new Set(asked.map((one) => one.headers.get("Idempotency-Key"))).size).toBe(2);
});

test("a service that hangs is not waited for without end, and pressing again is the same change", async () => {
  vi.useFakeTimers();
  const hangs = vi
    .spyOn(globalThis, "fetch")
    .mockImplementation(
      (input) =>
        new Promise((_, reject) => (input as Request).signal.addEventListener("abort", () => reject(new DOMException("", "AbortError")))),
    );
  const told = must(registering()).catch((problem: unknown) => problemOf(problem).detail);
  await vi.advanceTimersByTimeAsync(60_000);
  expect(await told).toBe("The service did not answer in time: whether this was done is not known.");
  const again = must(registering()).catch(() => undefined);
  await vi.advanceTimersByTimeAsync(60_000);
  await again;
  const names = hangs.mock.calls.map(([input]) => (input as Request).headers.get("Idempotency-Key"));
  expect([names.length, new Set(names).size]).toEqual([2, 1]);
  hangs.mockRestore();
  vi.useRealTimers();
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
  expect(away.text()).toContain("whether this was done is not known");
  away.unmount();
});
