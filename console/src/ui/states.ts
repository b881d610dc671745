// Which tone a state of the service has on the page.
export type Tone = "live" | "wait" | "broken" | "gone";

export const secretTone: Record<string, Tone> = { live: "live", expiring: "wait", expired: "broken", withdrawn: "gone" };
export const secretWord: Record<string, string> = {
  live: "live", expiring: "ends soon", expired: "ended", withdrawn: "withdrawn",
};
export const severityTone: Record<string, Tone> = { high: "broken", medium: "wait", low: "gone" };
