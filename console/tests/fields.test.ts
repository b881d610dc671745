import { flushPromises, mount } from "@vue/test-utils";
import { afterEach, expect, test, vi } from "vitest";
import { defineComponent, h, ref } from "vue";
import type { Schemas } from "@/api/client";
import { refresh } from "@/api/session";
import Choose from "@/ui/forms/Choose.vue";
import CopyButton from "@/ui/CopyButton.vue";
import Loadable from "@/ui/Loadable.vue";
import PickPeople from "@/ui/forms/PickPeople.vue";
import ReachEditor from "@/ui/forms/ReachEditor.vue";
import { answering, problem, shown } from "./answers";
import { forward } from "./forward";

afterEach(() => {
  forward.reset();
  vi.unstubAllGlobals();
  vi.useRealTimers();
});

async function signedIn(may: string[], more: Record<string, unknown> = {}): Promise<void> {
  answering({
    "GET /api/v1/session": { directory: "alder", csrf: "c" },
    "GET /api/v1/directories/alder/whoami": { may },
    ...more,
  });
  await refresh();
}

const PEOPLE = ["Ada", "Abel", "Agda", "Alva", "Anja", "Axel", "Bo"].map((name) => ({
  id: `id-${name}`,
  name,
  login: `${name.toLowerCase()}@alder.example`,
  active: name !== "Abel",
})) as Schemas["Person"][];
const PATH = "GET /api/v1/directories/alder/people";
const people = (asked: URL) => {
  const word = (asked.searchParams.get("q") ?? "").toLowerCase();
  const fit = PEOPLE.filter((one) => one.active && one.name.toLowerCase().includes(word));
  return { items: fit.slice(0, Number(asked.searchParams.get("limit"))) };
};

async function picker(chosen: string[] = [], more: object = {}) {
  const page = mount(PickPeople, {
    props: {
      label: "Owners",
      modelValue: chosen,
      "onUpdate:modelValue": (now: string[]) => page.setProps({ modelValue: now }),
      ...more,
    },
  });
  await flushPromises();
  return page;
}

test("people are found by the service: five at most, none who may not act, none twice", async () => {
  await signedIn(["people.list"], { [PATH]: people });
  const page = await picker(["id-Bo"], { names: { "id-Bo": "Bo" } });
  const matches = () => page.findAll(".matches button").map((one) => one.text());
  expect(matches()).toEqual(["+ Ada", "+ Agda", "+ Alva", "+ Anja", "+ Axel"]);
  const field = page.get("input");
  await field.trigger("keydown", { key: "Enter" });
  expect(page.props("modelValue")).toEqual(["id-Bo"]);
  // Enter waits for no pause: what was typed is looked for at once.
  await field.setValue("  AD");
  await field.trigger("keydown", { key: "Enter" });
  await flushPromises();
  expect(page.props("modelValue")).toEqual(["id-Bo", "ada@alder.example"]);
  vi.useFakeTimers();
  await field.setValue("bo");
  await vi.advanceTimersByTimeAsync(300);
  expect(page.text()).toContain("Nobody of that name");
  await page.get("[aria-label='Remove Bo']").trigger("click");
  expect(page.props("modelValue")).toEqual(["ada@alder.example"]);
  expect(page.text()).toContain("Ada");
});

test("a form that is sent right after Enter waits for who was meant", async () => {
  let answer = (): void => undefined;
  const waits = new Promise<void>((resolve) => (answer = resolve));
  let asks = 0;
  await signedIn(["people.list"], {
    [PATH]: async (asked: URL) => {
      if (asks++ > 0) await waits;
      return people(asked);
    },
  });
  const sent: string[][] = [];
  const chosen = ref<string[]>([]);
  const page = mount(
    defineComponent({
      setup: () => () =>
        h("form", { onSubmit: (event: Event) => (event.preventDefault(), sent.push([...chosen.value])) }, [
          h(PickPeople, { label: "Owners", modelValue: chosen.value, "onUpdate:modelValue": (now: string[]) => (chosen.value = now) }),
          h("button", { type: "submit", class: "save" }, "Save"),
        ]),
    }),
    { attachTo: document.body },
  );
  await flushPromises();
  await page.get("input").setValue("axel");
  await page.get("input").trigger("keydown", { key: "Enter" });
  await page.get(".save").trigger("click");
  await flushPromises();
  expect(sent).toEqual([]);
  answer();
  await vi.waitFor(() => expect(sent).toEqual([["axel@alder.example"]]));
  page.unmount();
});

test("a list that cannot be read offers another try, and one person is one", async () => {
  let away = true;
  await signedIn(["people.list"], { [PATH]: (asked: URL) => (away ? problem(503, "Away.") : people(asked)) });
  const page = await picker([], { single: true });
  expect(page.get("[role=alert]").text()).toContain("cannot be read now");
  away = false;
  await page.get("[role=alert] button").trigger("click");
  await flushPromises();
  await page.findAll(".matches button")[0]?.trigger("click");
  expect(page.props("modelValue")).toEqual(["ada@alder.example"]);
  expect(page.find("input").exists()).toBe(false);
});

test("whoever may not list people writes whole logins", async () => {
  await signedIn([]);
  const page = await picker();
  await page.get("input").setValue(" Ada@Alder.example ");
  await page.get("button.add").trigger("click");
  await page.get("input").setValue("ada@alder.example");
  await page.get("button.add").trigger("click");
  expect(page.props("modelValue")).toEqual(["ada@alder.example"]);
});

const COLLECTIONS = {
  object_name: "berth",
  objects: 4,
  collections: [
    { path: "north", title: "North", size: 2, objects: ["n1"] },
    { path: "north/inner", title: "Inner", size: 1, objects: ["i1"] },
    { path: "south", title: "South", size: 1, objects: ["s1"] },
  ],
};

test("a reach says how much it is, and a collection holds what lies in it", async () => {
  await signedIn([], { "GET /api/v1/directories/alder/resources/berths/collections": COLLECTIONS });
  const props = { resource: "berths", label: "Where", modelValue: { kind: "everywhere", collections: [] } };
  const { page } = await shown(ReachEditor, { ...props, "onUpdate:modelValue": (now: object) => page.setProps({ modelValue: now }) });
  await flushPromises();
  const said = () => page.get("[role=status]").text();
  expect(said()).toBe("4 of 4 berths");
  await page.findAll("input[type=radio]")[1]?.setValue();
  expect(said()).toBe("choose at least one collection");
  const boxes = () => page.findAll("[role=checkbox]");
  await boxes()[1]?.trigger("click");
  expect(said()).toBe("1 of 4 berths");
  await boxes()[0]?.trigger("click");
  expect([said(), boxes()[1]?.attributes("aria-checked")]).toEqual(["2 of 4 berths", "true"]);
  expect(page.props("modelValue")).toEqual({ kind: "only", collections: ["north"] });
  await page.findAll("input[type=radio]")[2]?.setValue();
  expect(said()).toBe("2 of 4 berths");
  await page.findAll("input[type=radio]")[0]?.setValue();
  expect(page.props("modelValue")).toEqual({ kind: "everywhere", collections: [] });
  page.unmount();
});

test("of many collections some are shown, others are found, and what is chosen stays in sight", async () => {
  const many = Array.from({ length: 3000 }, (_, place) => ({
    path: `unit-${place}`,
    title: `Unit ${place}`,
    size: 1,
    objects: [`u${place}`],
  }));
  const answer = { object_name: "berth", objects: 3000, collections: many };
  await signedIn([], { "GET /api/v1/directories/alder/resources/many/collections": answer });
  const props = { resource: "many", label: "Where", modelValue: { kind: "only", collections: ["unit-77"] } };
  const { page } = await shown(ReachEditor, props);
  const boxes = () => page.findAll("[role=checkbox]").map((box) => box.text());
  await vi.waitFor(() => expect(boxes()).toHaveLength(51));
  expect(page.get(".find [role=status]").text()).toBe("The first 50 of 3,000: type more to find the others.");
  expect(page.get("[role=status]").text()).toBe("1 of 3,000 berths");
  const names = () => boxes().map((text) => text.split(" unit-")[0]);
  await page.get("input[type=search]").setValue("unit 76");
  expect(names().slice(0, 2)).toEqual(["Unit 77", "Unit 76"]);
  await page.get("input[type=search]").setValue("unit 77");
  expect(names().slice(0, 2)).toEqual(["Unit 77", "Unit 770"]);
  // It stands within forms: whoever presses Enter looks for something, and sends nothing.
  const enter = new KeyboardEvent("keydown", { key: "Enter", bubbles: true, cancelable: true });
  expect(page.get("input[type=search]").element.dispatchEvent(enter)).toBe(false);
});

test("a choice that is taken back is none", async () => {
  const options = [{ label: "One", value: "1" }];
  const page = mount(Choose, { props: { options, label: "Which", modelValue: "1" } });
  await page.get("select").setValue("");
  expect(page.emitted("update:modelValue")).toEqual([[null]]);
});

test("a copy says so, and what the browser refuses is told, too", async () => {
  vi.useFakeTimers();
  const write = vi.fn(() => Promise.resolve());
  vi.stubGlobal("navigator", { clipboard: { writeText: write } });
  const page = mount(CopyButton, { props: { value: "s-1", what: "the secret" } });
  await page.get("button").trigger("click");
  await vi.advanceTimersByTimeAsync(0);
  expect([write.mock.calls, page.get("[role=status]").text()]).toEqual([[["s-1"]], "Copied the secret"]);
  await vi.advanceTimersByTimeAsync(3000);
  expect(page.get("button").text()).toBe("copy");
  vi.stubGlobal("navigator", { clipboard: undefined });
  await page.get("button").trigger("click");
  expect(page.get("[role=status]").text()).toContain("copy it yourself");
});

test("what was there stays while it is read again, and a failure offers another try", async () => {
  const slots = { default: "<b>rows</b>" };
  const page = mount(Loadable, { props: { loading: true, error: null, ready: false }, slots, global: { stubs: ["RouterLink"] } });
  expect(page.text()).toBe("Reading …");
  await page.setProps({ loading: true, ready: true });
  expect(page.text()).toBe("rows");
  const retry = vi.fn();
  await page.setProps({ error: new TypeError("away"), retry });
  expect(page.text()).toContain("does not answer");
  expect(page.text()).toContain("rows");
  await page.get("button").trigger("click");
  expect(retry).toHaveBeenCalledOnce();
});
