"""Requests for consent: how they end, who may decide them, and how many must say yes."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from datetime import datetime
from enum import StrEnum

from jamb.core.directory.policy import DirectoryPolicy
from jamb.core.errors import AlreadyDecided, SamePerson, Unsuited, Violation


class RequestState(StrEnum):
    WAITING = "waiting"
    GRANTED = "granted"
    DECLINED = "declined"
    WITHDRAWN = "withdrawn"
    LAPSED = "lapsed"


class RequestEvent(StrEnum):
    GRANT = "grant"
    DECLINE = "decline"
    WITHDRAW = "withdraw"


# {state: {event: next state}}. Lapsing is a matter of time: a waiting request whose time is over has lapsed.
LIFECYCLE: dict[RequestState, dict[RequestEvent, RequestState]] = {
    RequestState.WAITING: {
        RequestEvent.GRANT: RequestState.GRANTED,
        RequestEvent.DECLINE: RequestState.DECLINED,
        RequestEvent.WITHDRAW: RequestState.WITHDRAWN,
    },
    RequestState.GRANTED: {},
    RequestState.DECLINED: {},
    RequestState.WITHDRAWN: {},
    RequestState.LAPSED: {},
}


def state_at(state: RequestState, due_at: datetime, now: datetime) -> RequestState:
    return RequestState.LAPSED if state is RequestState.WAITING and now >= due_at else state


def after(state: RequestState, event: RequestEvent) -> RequestState:
    """Return the next state. Raises `AlreadyDecided` where the event cannot happen any more."""
    following = LIFECYCLE[state].get(event)
    if following is None:
        raise AlreadyDecided(f"This request is {state.value}.", next_step="Make another request if it is still needed.")
    return following


def approvers_needed(weight: float, policy: DirectoryPolicy) -> int:
    return 2 if weight >= policy.two_approvers_weight else 1


def refuse_same_person(weight: float, asked_by: Collection[str], approver_id: str, policy: DirectoryPolicy) -> None:
    """Raise `SamePerson` when whoever asked would consent to something too heavy for that."""
    if weight >= policy.two_people_weight and approver_id in asked_by:
        raise SamePerson(
            f"This adds a weight of {weight:g}: from {policy.two_people_weight} on, another person must consent.",
            violations=(Violation("approver", "whoever asked", "somebody else who may consent"),),
            next_step="Make a request, and have another approver decide it.",
        )


def check_answers(questions: Sequence[str], answers: Sequence[str], terms: str, *, accepted: bool) -> None:
    """Raise `BadInput` unless every question of the resource has an answer and its terms, if any, are accepted."""
    violations = [
        Violation(f"answers.{place}", "nothing", f"an answer to “{question}”")
        for place, question in enumerate(questions)
        if place >= len(answers) or not answers[place].strip()
    ]
    if len(answers) > len(questions):
        violations.append(Violation("answers", str(len(answers)), f"{len(questions)}: one for each question"))
    if terms and not accepted:
        violations.append(Violation("terms_accepted", "no", "yes, once you have read them", terms[:200]))
    if violations:
        raise Unsuited("The resource asks for more before it can be requested.", violations=tuple(violations))
