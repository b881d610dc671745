import { expect, test } from "vitest";
import { plural } from "@/texts/plural";
import { acting, count, grave, inOrder } from "@/ui/use/words";

test.each([
  ["berth", "berths"],
  ["dispatch", "dispatches"],
  ["box", "boxes"],
  ["ferry", "ferries"],
  ["quay", "quays"],
])("several of a %s are %s", (one, several) => {
  expect(plural(one)).toBe(several);
  expect(count(1, one)).toBe(`1 ${one}`);
  expect(count(0, one)).toBe(`0 ${several}`);
});

test("what is grave is control, restricted data, and writing to personal data", () => {
  const effects = ["read", "write", "control"];
  const classes = ["public", "internal", "personal", "restricted"];
  const found = effects.flatMap((effect) => classes.filter((data_class) => grave({ effect, data_class })).map((one) => `${effect} ${one}`));
  expect(found).toEqual(["read restricted", "write personal", "write restricted", ...classes.map((one) => `control ${one}`)]);
});

test("whom a permission is for is said without a kind's name", () => {
  expect(acting("application")).toBe("as itself");
  expect(acting("delegated", "Pia Nowicki")).toBe("for Pia Nowicki");
  expect(acting("delegated")).toBe("for whoever is signed in");
});

test("names come as they are counted", () => {
  expect(inOrder(["south-10", "south-2", "north-1", "south-1"])).toEqual(["north-1", "south-1", "south-2", "south-10"]);
});
