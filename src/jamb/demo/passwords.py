"""Passwords of the demo's people: drawn anew for each demo, and easy to type."""

from __future__ import annotations

import secrets

_WORDS = tuple(
    "anchor bollard capstan davit ebb fender gangway halyard jetty keel lantern mooring neap oar pontoon quay rudder "  # noqa: SIM905 - read as a list of words
    "sextant tiller vane wharf yawl".split()
)


def drawn_password() -> str:
    """Return three words and a number. No word stands twice: three times the same one is guessed early."""
    return "-".join([*secrets.SystemRandom().sample(_WORDS, 3), str(100 + secrets.randbelow(900))])
