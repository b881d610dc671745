// Problem documents (RFC 9457), as the service sends them.
export interface ProblemField {
  field: string;
  sent: string;
  allowed: string;
  next_step: string;
}
export interface Problem {
  type: string;
  title: string;
  status: number;
  detail: string;
  next_step: string;
  fields: ProblemField[];
  choices?: Record<string, string> | null;
  made?: Record<string, string> | null;
}

export class ApiError extends Error {
  constructor(readonly problem: Problem) {
    super(problem.detail);
  }
}

const AWAY: Problem = {
  type: "about:blank",
  title: "No answer",
  status: 0,
  detail: "The service does not answer: whether anything was changed is not known.",
  next_step: "Check your connection, then try again.",
  fields: [],
};

export const problemOf = (error: unknown): Problem => (error instanceof ApiError ? error.problem : AWAY);

/** Whether an application is for others than this person. */
export const notAdmitted = (error: unknown): boolean => problemOf(error).type.endsWith("not-admitted");

/** Whether login and password are right, and a code of a second factor is wanted with them. */
export const wantsCode = (error: unknown): boolean => problemOf(error).type.endsWith("code-wanted");

export function problemFrom(body: unknown, status: number): Problem {
  const sent = (body && typeof body === "object" ? body : {}) as Partial<Problem>;
  return {
    type: sent.type ?? "about:blank",
    title: sent.title ?? "Refused",
    status,
    detail: sent.detail ?? sent.title ?? `The service answered ${status}.`,
    next_step: sent.next_step ?? "",
    fields: sent.fields ?? [],
    choices: sent.choices,
    made: sent.made,
  };
}
