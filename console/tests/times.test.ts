import { expect, test } from "vitest";
import { ago, clock, day, full, NEXT, shown, showNext, withMoments } from "@/ui/use/times";

const NOW = Date.parse("2031-05-01T12:00:00Z");
const at = (seconds: number) => new Date(NOW + seconds * 1000).toISOString();

test.each([
  [0, "just now"],
  [-59, "just now"],
  [-60, "1 minute ago"],
  [-3_599, "59 minutes ago"],
  [3_600, "in 1 hour"],
  [86_400, "in 1 day"],
  // What was given ninety days a moment ago does not say 89.
  [90 * 86_400 - 5, "in 90 days"],
  [-85_000, "23 hours ago"],
])("%i seconds from now is said as %s", (seconds, words) => {
  expect(ago(at(seconds), NOW)).toBe(words);
});

test("a reader chooses between how long ago, this computer's clock and UTC, and finds it so the next time", () => {
  const late = "2031-05-01T23:30:05Z";
  expect([shown.value, NEXT[shown.value]]).toEqual(["ago", "Show exact times"]);
  showNext();
  expect(localStorage.getItem("jamb-times")).toBe("clock");
  showNext();
  expect([full(late), clock(late), day(late)]).toEqual(["1 May 2031, 23:30 UTC", "23:30:05 UTC", "1 May 2031"]);
  expect(withMoments("held: a → due 2026-12-21T09:41:19.228693+00:00, b")).toBe("held: a → due 21 Dec 2026, 09:41 UTC, b");
  showNext();
  expect([shown.value, localStorage.getItem("jamb-times")]).toEqual(["ago", "ago"]);
});
