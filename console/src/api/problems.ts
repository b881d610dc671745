// Problem documents (RFC 9457), as the service sends them.
import { say } from "@/texts";
import { Unanswered } from "./network";
import { t } from "@/texts/sentences";

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

/** What is said where there was no answer: of a change, that nobody knows whether it was done. */
function away(error: unknown): Problem {
  const { change, late } = error instanceof Unanswered ? error : { change: true, late: false };
  return {
    type: "about:blank",
    title: t`No answer`,
    status: 0,
    detail: say(`no_answer.${change ? "change" : "read"}${late ? "_late" : ""}`),
    next_step: say(change ? "no_answer.again_safely" : "no_answer.again"),
    fields: [],
  };
}

/** What a change says that was done when it was sent first: its answer was lost on the way. */
function doneBefore(problem: Problem): Problem {
  const shown = ["secret", "credential", "certificate"].includes(problem.made?.kind ?? "");
  return {
    ...problem,
    // No problem of the service's any more: it says so itself.
    type: "about:blank",
    detail: say("no_answer.done_before"),
    next_step: shown ? say("no_answer.shown_once") : "",
  };
}

export const wasDone = (error: unknown): boolean => error instanceof ApiError && error.problem.type.endsWith("done-before");

export const problemOf = (error: unknown): Problem =>
  !(error instanceof ApiError) ? away(error) : wasDone(error) ? doneBefore(error.problem) : error.problem;

/** What a failure says in a line of a table: what was wrong, and what to do. */
export function inShort({ detail, fields, next_step }: Pick<Problem, "detail" | "fields" | "next_step">): string {
  const told = fields.map((one) => t`${one.sent}: allowed is ${one.allowed}. ${one.next_step}`);
  return [...(told.length ? told : [detail]), next_step].join(" ").trim();
}

/** Whether an application is for others than this person. */
export const notAdmitted = (error: unknown): boolean => problemOf(error).type.endsWith("not-admitted");

/** Whether login and password are right, and a code of a second factor is wanted with them. */
export const wantsCode = (error: unknown): boolean => problemOf(error).type.endsWith("code-wanted");

export function problemFrom(body: unknown, status: number): Problem {
  const sent = (body && typeof body === "object" ? body : {}) as Partial<Problem>;
  return {
    type: sent.type ?? "about:blank",
    title: sent.title ?? t`Refused`,
    status,
    detail: sent.detail ?? sent.title ?? t`The service answered ${status}.`,
    next_step: sent.next_step ?? "",
    fields: sent.fields ?? [],
    choices: sent.choices,
    made: sent.made,
  };
}
