"""Remedies of findings: what one would do, and carrying it out."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from jamb.core.audit.remedies import RemedyInput
from jamb.wire.base.shapes import Answered, Names, Sent
from jamb.wire.base.text import MaybeSaid
from jamb.wire.resources.reach import ReachSent


class RemedyPreview(Answered):
    """What a remedy would do; nothing is changed by looking.

    `by_hand`: where `text` says; nothing can be carried out from here. `needs`: what must be said with it.
    `no_longer`, `narrower`: operations that would be possible no more, or for fewer objects; null: does not apply.
    `collections`: where a reach can be bounded to. `why_not`: why the caller may not; empty: they may.
    """

    text: str
    by_hand: bool
    title: str
    needs: RemedyInput
    words: list[str]
    resource: str
    no_longer: Names | None
    narrower: Names | None
    collections: list[str]
    why_not: str


class RemedySent(Sent):
    reason: MaybeSaid = ""
    login: Annotated[str, Field(max_length=200)] = ""
    reach: ReachSent | None = None


class Resolved(Answered):
    """What was done, in words."""

    done: str
