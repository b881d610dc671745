"""Where an answer for a person may be sent: to one of the registration's redirect URIs, letter by letter.

RFC 9700 section 2.1: exact comparison of strings (RFC 3986 section 6.2.1). RFC 8252 section 7.3: of a native client's
loopback address the port may differ, as it takes whichever is free.
"""

from __future__ import annotations

import re
from collections.abc import Iterable

from jamb.core.clients.clients import ClientKind

_LOOPBACK = re.compile(r"(http://(?:127\.0\.0\.1|\[::1\]))(?::\d{1,5})?(/.*|\?.*)?\Z", re.DOTALL)


def is_registered(sent: str, registered: Iterable[str], kind: ClientKind) -> bool:
    """Tell whether an answer may be sent there."""
    return registered_as(sent, registered, kind) is not None


def registered_as(sent: str, registered: Iterable[str], kind: ClientKind) -> str | None:
    """Return as which of the registered addresses an answer may be sent there; None: it may not."""
    known = tuple(registered)
    if sent in known:
        return sent
    bare = _without_port(sent) if kind is ClientKind.NATIVE else None
    return next((one for one in known if bare is not None and _without_port(one) == bare), None)


def is_assured(address: str, kind: ClientKind) -> bool:
    """Tell whether who is answered there can be no other than the client, so that nobody need be asked again.

    RFC 8252 section 8.6: whatever runs on the person's machine can ask in a public client's name, and listen at its
    loopback address or private-use scheme; an https address is its maker's. A confidential client proves itself.
    """
    return kind.confidential or address.startswith("https://")


def _without_port(address: str) -> tuple[str, str] | None:
    found = _LOOPBACK.match(address)
    return (found[1], found[2] or "") if found is not None else None


def nearest(sent: str, registered: Iterable[str]) -> tuple[str, int] | None:
    """Return the registered address that agrees longest with what was sent, and where they part; None: none is."""
    known = [(one, _common(sent, one)) for one in registered]
    return max(known, key=lambda pair: pair[1], default=None)


def _common(one: str, other: str) -> int:
    return next(
        (place for place, (a, b) in enumerate(zip(one, other, strict=False)) if a != b), min(len(one), len(other))
    )
