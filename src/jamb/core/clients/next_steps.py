"""next steps before a client works: said after registration, in its dossier and on the command line."""

from __future__ import annotations

from collections.abc import Iterable

from jamb.core.clients.clients import ClientKind, GrantType
from jamb.core.ladder import Rung


def next_steps(
    kind: ClientKind, rungs: Iterable[Rung], *, has_live_secret: bool, has_redirect_uri: bool = True
) -> tuple[str, ...]:
    """Return plain sentences in the order in which to do them; empty when the client can work."""
    rows = tuple(rungs)
    steps = []
    waiting = sorted(rung.permission for rung in rows if rung.asked is not None and rung.granted is None)
    if not rows:
        steps.append("Ask for the permissions it needs.")
    if waiting:
        steps.append(f"Have an approver consent to {', '.join(waiting)}: asked, not granted, opens nothing.")
    if kind.confidential and not has_live_secret:
        steps.append("Issue a client secret.")
    # An application on a device may be let in by a code that it shows.
    by_redirect = kind.may(GrantType.AUTHORIZATION_CODE) and not kind.may(GrantType.DEVICE_CODE)
    if by_redirect and not has_redirect_uri:
        steps.append("Name a redirect URI: without one nobody is sent back to it after signing in.")
    return tuple(steps)
