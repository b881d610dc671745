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
export const credentialWord: Record<string, string> = {
  coming: "starts later",
  live: "live",
  expiring: "expires soon",
  expired: "expired",
  disabled: "disabled",
  withdrawn: "withdrawn",
};
export const handoverTone: Record<string, Tone> = {
  waiting: "wait",
  opened: "live",
  expired: "gone",
  locked: "broken",
  withdrawn: "gone",
};
export const handoverWord: Record<string, string> = {
  waiting: "not opened yet",
  opened: "opened",
  expired: "ran out",
  locked: "locked: wrong passphrases",
  withdrawn: "taken back",
};
export const severityTone: Record<string, Tone> = { high: "broken", medium: "wait", low: "gone" };
