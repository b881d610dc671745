"""Next steps before a client works: said after registration, in its dossier and on the command line."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from dataclasses import dataclass
from enum import StrEnum

from jamb.core.clients.clients import ClientKind, GrantType


class NextStepKind(StrEnum):
    """What the step is, for whoever leads to it by a button or a command."""

    ASK = "ask"
    CONSENT = "consent"
    CREDENTIAL = "credential"
    REDIRECT = "redirect"


@dataclass(frozen=True, slots=True)
class NextStep:
    kind: NextStepKind
    words: str


def next_steps(
    kind: ClientKind,
    waiting: Iterable[str],
    *,
    wants: bool,
    has_live_secret: bool,
    has_redirect_uri: bool = True,
    grant_types: Collection[str] = (),
) -> tuple[NextStep, ...]:
    """Return what is to be done, in plain sentences and in its order; empty when the client can work.

    Args:
        waiting: the permissions that wait for consent.
        wants: whether it asks for anything, or holds anything.
        grant_types: those that it is registered for alone; none: all of its kind.
    """
    steps = []
    waiting = sorted(waiting)
    if not wants:
        steps.append(NextStep(NextStepKind.ASK, "Ask for the permissions it needs."))
    if waiting:
        words = f"Have an approver consent to {', '.join(waiting)}: asked, not granted, opens nothing."
        steps.append(NextStep(NextStepKind.CONSENT, words))
    if kind.confidential and not has_live_secret:
        steps.append(NextStep(NextStepKind.CREDENTIAL, "Give it a credential: a client secret, or a key of its own."))
    # An application on a device may be let in by a code that it shows.
    by_code, by_device = (kind.uses(one, grant_types) for one in (GrantType.AUTHORIZATION_CODE, GrantType.DEVICE_CODE))
    by_redirect = by_code and not by_device
    if by_redirect and not has_redirect_uri:
        words = "Name a redirect URI: without one nobody is sent back to it after signing in."
        steps.append(NextStep(NextStepKind.REDIRECT, words))
    return tuple(steps)
