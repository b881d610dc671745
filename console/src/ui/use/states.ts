import { noted, t } from "@/texts/sentences";

// Which tone a state of the service has on the page.
export type Tone = "live" | "wait" | "broken" | "gone";

export const credentialTone: Record<string, Tone> = {
  coming: "wait",
  live: "live",
  expiring: "wait",
  expired: "broken",
  disabled: "wait",
  withdrawn: "gone",
};
const CREDENTIALS: Record<string, string> = {
  coming: noted("starts later"),
  live: noted("live"),
  expiring: noted("expires soon"),
  expired: noted("expired"),
  disabled: noted("disabled"),
  withdrawn: noted("withdrawn"),
};
export const credentialWord = (state: string): string => t(CREDENTIALS[state] ?? state);
export const handoverTone: Record<string, Tone> = {
  waiting: "wait",
  opened: "live",
  expired: "gone",
  locked: "broken",
  withdrawn: "gone",
};
const HANDOVERS: Record<string, string> = {
  waiting: noted("not opened yet"),
  opened: noted("opened"),
  expired: noted("ran out"),
  locked: noted("locked: wrong passphrases"),
  withdrawn: noted("taken back"),
};
export const handoverWord = (state: string): string => t(HANDOVERS[state] ?? state);
export const severityTone: Record<string, Tone> = { high: "broken", medium: "wait", low: "gone" };
