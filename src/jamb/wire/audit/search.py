"""What is found by a word."""

from __future__ import annotations

from jamb.core.lists import FoundKind
from jamb.wire.base.shapes import Answered


class Found(Answered):
    """One thing. `id`: of a client or person, else its name; `more`: purpose, login, title, identifier or hint.

    `resource`: the short name of the resource whose permission, operation or role it is.
    """

    kind: FoundKind
    id: str
    name: str
    more: str
    resource: str
