// Times as people say them. Formatters are made once: they are slow to make.
import { ref } from "vue";

const relative = new Intl.RelativeTimeFormat("en", { numeric: "always" });
const absolute = new Intl.DateTimeFormat("en-GB", {
  day: "numeric",
  month: "short",
  year: "numeric",
  hour: "2-digit",
  minute: "2-digit",
  timeZoneName: "short",
});
const dayOnly = new Intl.DateTimeFormat("en-GB", { day: "numeric", month: "short", year: "numeric" });

const STEPS: [Intl.RelativeTimeFormatUnit, number][] = [
  ["day", 86_400],
  ["hour", 3_600],
  ["minute", 60],
];

/** The moment by which everything on the page is relative; moves once a minute. */
export const now = ref(Date.now());
window.setInterval(() => (now.value = Date.now()), 60_000);

export function ago(moment: string, at: number): string {
  const seconds = (Date.parse(moment) - at) / 1000;
  for (const [unit, length] of STEPS) {
    // A hundredth more, so that what was just given 90 days does not say 89.
    if (Math.abs(seconds) >= length) return relative.format(Math.trunc(seconds / length + Math.sign(seconds) * 0.01), unit);
  }
  return "just now";
}

export const full = (moment: string): string => absolute.format(new Date(moment));
const toTheSecond = new Intl.DateTimeFormat("en-GB", {
  hour: "2-digit",
  minute: "2-digit",
  second: "2-digit",
  timeZoneName: "short",
});
export const clock = (moment: string): string => toTheSecond.format(new Date(moment));
export const day = (moment: string): string => dayOnly.format(new Date(moment));
