// Times as people say them. Formatters are made once: they are slow to make.
import { ref } from "vue";
import { say } from "@/texts";
import { noted, tag } from "@/texts/sentences";

const relative: Partial<Record<string, Intl.RelativeTimeFormat>> = {};

/** How times are shown: how long ago, or as of the clock, of this computer or UTC. Each reader's own. */
export type Shown = "ago" | "clock" | "utc";
const ORDER: Shown[] = ["ago", "clock", "utc"];
const KEPT = "jamb-times";
const chosen = localStorage.getItem(KEPT) as Shown;
export const shown = ref<Shown>(ORDER.includes(chosen) ? chosen : "ago");
export const NEXT: Record<Shown, string> = {
  ago: noted("Show exact times"),
  clock: noted("Show times in UTC"),
  utc: noted("Show how long ago"),
};
export function showNext(): void {
  shown.value = ORDER[(ORDER.indexOf(shown.value) + 1) % ORDER.length]!;
  localStorage.setItem(KEPT, shown.value);
}

type Form = Intl.DateTimeFormatOptions;
/** Made when it is needed first, in a language, in the zone of this computer and in UTC. */
function formatter(form: Form): (moment: string) => string {
  const made: Partial<Record<string, Intl.DateTimeFormat>> = {};
  return (moment) => {
    const zone = shown.value === "utc" ? "UTC" : "";
    const how = (made[`${tag()} ${zone}`] ??= new Intl.DateTimeFormat(tag(), { ...form, ...(zone ? { timeZone: zone } : {}) }));
    return how.format(new Date(moment));
  };
}
const DAY: Form = { day: "numeric", month: "short", year: "numeric" };
const TIME: Form = { hour: "2-digit", minute: "2-digit", timeZoneName: "short" };
export const full = formatter({ ...DAY, ...TIME });
export const clock = formatter({ ...TIME, second: "2-digit" });
export const day = formatter(DAY);
const MOMENTS = /\b\d{4}-\d\d-\d\dT\d\d:\d\d(?::\d\d(?:\.\d+)?)?(?:Z|[+-]\d\d:\d\d)/g;
/** A text of the record with its moments as they stand elsewhere on the page. */
export const withMoments = (text: string): string => text.replace(MOMENTS, full);

const STEPS: [Intl.RelativeTimeFormatUnit, number][] = [
  ["day", 86_400],
  ["hour", 3_600],
  ["minute", 60],
];

/** The moment by which everything on the page is relative; moves once a minute. */
export const now = ref(Date.now());
window.setInterval(() => (now.value = Date.now()), 60_000);

export function ago(moment: string, at: number): string {
  const how = (relative[tag()] ??= new Intl.RelativeTimeFormat(tag(), { numeric: "always" }));
  const seconds = (Date.parse(moment) - at) / 1000;
  for (const [unit, length] of STEPS) {
    // A hundredth more, so that what was just given 90 days does not say 89.
    if (Math.abs(seconds) >= length) return how.format(Math.trunc(seconds / length + Math.sign(seconds) * 0.01), unit);
  }
  return say("times.just_now");
}
