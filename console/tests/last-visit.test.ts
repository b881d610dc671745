import { beforeEach, expect, test } from "vitest";
import { visited } from "@/api/last-visit";

const HOUR = 3_600_000;
beforeEach(() => localStorage.clear());

test("the visit before is the one that was over for an hour, and stays so for as long as this one", () => {
  expect(visited(10, 0)).toBeNull();
  expect(visited(12, HOUR / 2)).toBeNull();
  expect(visited(40, 3 * HOUR)).toEqual({ at: HOUR / 2, sequence: 12 });
  expect(visited(41, 3.5 * HOUR)).toEqual({ at: HOUR / 2, sequence: 12 });
  expect(visited(50, 30 * HOUR)).toEqual({ at: 3.5 * HOUR, sequence: 41 });
});

test("what somebody else left there is no visit", () => {
  visited(10, 0);
  const [key] = Object.keys(localStorage);
  localStorage.setItem(key!, "{not json");
  expect(visited(20, 9 * HOUR)).toBeNull();
  localStorage.setItem(key!, '{"at":"yesterday"}');
  expect(visited(30, 20 * HOUR)).toBeNull();
  localStorage.setItem(key!, JSON.stringify({ at: 20 * HOUR, sequence: 30, before: "yes" }));
  expect(visited(31, 20.5 * HOUR)).toBeNull();
});
