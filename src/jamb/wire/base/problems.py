"""Problem details (RFC 9457): how an error looks on the wire, and which class it becomes again at the caller."""

from __future__ import annotations

from pydantic import BaseModel, ConfigDict, Field

from jamb.core import errors
from jamb.core.errors import JambError, Violation

MEDIA_TYPE = "application/problem+json"

# code: (HTTP status, title). Every class of the tree that can cross the wire has its row; a test says so.
TABLE: dict[str, tuple[int, str]] = {
    errors.JambError.code: (500, "Something went wrong here"),
    errors.Misuse.code: (500, "Something went wrong here"),
    errors.Refusal.code: (400, "Refused"),
    errors.BadInput.code: (422, "Not acceptable as it is"),
    errors.Unsuited.code: (409, "Does not fit"),
    errors.LivesTooLong.code: (409, "Longer than the policy allows"),
    errors.Malformed.code: (400, "Not readable"),
    errors.TooLarge.code: (413, "Too large"),
    errors.TooSlow.code: (408, "Too slow"),
    errors.WrongMediaType.code: (415, "Another form is needed"),
    errors.NotFound.code: (404, "Not found"),
    errors.Conflict.code: (409, "Not possible as things stand"),
    errors.Outdated.code: (412, "Changed meanwhile"),
    errors.NameTaken.code: (409, "Name taken"),
    errors.AlreadyAsked.code: (409, "Asked already"),
    errors.NothingToGrant.code: (409, "Nothing to grant"),
    errors.NothingToWithdraw.code: (409, "Nothing to withdraw"),
    errors.AlreadyEnded.code: (409, "Ended already"),
    errors.AlreadyDecided.code: (409, "Decided already"),
    errors.DoneBefore.code: (409, "Done before"),
    errors.AlreadyOpened.code: (409, "Opened already"),
    errors.SamePerson.code: (409, "Two people are needed"),
    errors.SecondApprover.code: (409, "Two approvers are needed"),
    errors.NeedsAgreement.code: (409, "Another person must agree"),
    errors.NobodyToAgree.code: (409, "Nobody could agree"),
    errors.TopRole.code: (409, "Too much for a client"),
    errors.StillInUse.code: (409, "Still in use"),
    errors.SeveralDirectories.code: (409, "Choose a directory"),
    errors.CodeWanted.code: (409, "Type a code"),
    errors.NotAdmitted.code: (403, "Not for you"),
    errors.FactorWanted.code: (403, "Set up a second factor"),
    errors.ConfirmationWanted.code: (403, "Show that it is you"),
    errors.NotSignedIn.code: (401, "Not signed in"),
    errors.Forbidden.code: (403, "You may not do this"),
    errors.Suspended.code: (403, "This directory is suspended"),
    errors.Misdirected.code: (421, "Not the host of this service"),
    errors.TooManyTries.code: (429, "Too many tries"),
    errors.WorldFailure.code: (503, "Something outside does not answer"),
    errors.Busy.code: (503, "Busy"),
    errors.StoreUnavailable.code: (503, "The database does not answer"),
    errors.ClockWrong.code: (503, "The clock of the service is wrong"),
    errors.OutcomeUnknown.code: (503, "It is not known whether it was done"),
    errors.ServiceUnreachable.code: (503, "Jamb does not answer"),
}
_CLASSES = {cls.code: cls for cls in errors.every_error() if cls.code in TABLE}
TYPE_PREFIX = "urn:jamb:problem:"


class ProblemField(BaseModel):
    """One unacceptable field: where, what was sent, what is allowed, what to do next."""

    field: str
    sent: str
    allowed: str
    next_step: str = ""


class Problem(BaseModel):
    """RFC 9457 section 3.1; with `next_step`, `fields`, `made` (what was made before) and `choices` (by short name).

    `instance` names the request where the service failed: whoever runs it finds the reason in the log by it.
    """

    model_config = ConfigDict(extra="ignore")

    type: str
    title: str
    status: int
    detail: str
    instance: str = ""
    next_step: str = ""
    fields: list[ProblemField] = Field(default_factory=list)
    made: dict[str, str] | None = None
    choices: dict[str, str] | None = None


def problem_of(error: JambError) -> Problem:
    """Return what the caller is told. Of our own mistakes nothing but that there was one."""
    code = error.code if error.code in TABLE else JambError.code
    status, title = TABLE[code]
    if status == 500:
        detail = "The service made a mistake, and it may have been made after the change was done."
        next_step = "Look whether it was done before you send it again. Tell whoever runs the service the request's id."
    else:
        detail, next_step = error.message, error.next_step
    fields = [
        ProblemField(field=one.field, sent=one.sent, allowed=one.allowed, next_step=one.next_step)
        for one in error.violations
    ]
    return Problem(
        type=TYPE_PREFIX + code,
        title=title,
        status=status,
        detail=detail,
        next_step=next_step,
        fields=fields,
        made=error.made,
        choices=error.choices,
    )


def error_of(problem: Problem, retry_after_seconds: int | None = None) -> JambError:
    """Return the same error as an exception at the caller's side; unknown types become the nearest base."""
    cls = _CLASSES.get(problem.type.removeprefix(TYPE_PREFIX)) or (
        errors.WorldFailure if problem.status >= 500 else errors.Refusal
    )
    error = cls(
        problem.detail or problem.title,
        violations=tuple(Violation(one.field, one.sent, one.allowed, one.next_step) for one in problem.fields),
        next_step=problem.next_step,
        retry_after_seconds=retry_after_seconds,
    )
    error.made, error.choices = problem.made, problem.choices
    return error
