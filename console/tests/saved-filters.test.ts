import { flushPromises } from "@vue/test-utils";
import { beforeEach, expect, test } from "vitest";
import SavedFilters from "@/ui/forms/SavedFilters.vue";
import { filterOf } from "@/api/saved-filters";
import { shown } from "./answers";

beforeEach(() => localStorage.clear());

test("a filter is what an address asks for, and not where in the list one is", () => {
  expect(filterOf({ q: "night", cursor: "WyJh", from: "50", attention: "", sort: "used" })).toEqual({ q: "night", sort: "used" });
});

test("what is filtered is saved by a name, comes back with one press, and is forgotten", async () => {
  const { page, router } = await shown(SavedFilters, { list: "clients" }, "/clients?q=night&cursor=WyJh");
  await page.get("button").trigger("click");
  await page.get("input").setValue("  Night jobs ");
  await page.get("form").trigger("submit");
  expect(page.text()).not.toContain("Save this filter");
  await router.push("/clients");
  await flushPromises();
  await page.get("a").trigger("click");
  await flushPromises();
  expect(router.currentRoute.value.query).toEqual({ q: "night" });
  expect(page.get("a").attributes("aria-current")).toBe("true");
  await page.get("[aria-label='Forget the filter Night jobs']").trigger("click");
  expect(page.text()).toContain("Save this filter");
  page.unmount();
});

test("what somebody else left there is no filter", async () => {
  const { page } = await shown(SavedFilters, { list: "clients" }, "/clients?q=a");
  await page.get("button").trigger("click");
  await page.get("input").setValue("A");
  await page.get("form").trigger("submit");
  const [key] = Object.keys(localStorage);
  page.unmount();
  for (const text of ["{not json", '{"name":"A"}', '[{"name":"A","query":{"q":["x"]}},{"name":1},null]']) {
    localStorage.setItem(key!, text);
    const again = await shown(SavedFilters, { list: "clients" }, "/clients");
    expect(again.page.text()).toBe("");
    again.page.unmount();
  }
});
