"""When another person must agree: who gains what by an act, how much that weighs, and who may say the second yes.

Whatever the way (a consent, a wider reach, a role, an owner, a credential, a catalogue), the weight of what it lets
somebody do is held against the same two weights of the policy. Acting as is having: whoever comes to act as a client
gains what it may do, but for what they may do already.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum
from typing import Any

from jamb.core.directory.policy import DirectoryPolicy


class ActKind(StrEnum):
    """What may need another person's yes, beside a consent that is asked for. Kept with what waits: never renamed."""

    OWNERS = "owners"
    CREDENTIAL = "credential"
    REDIRECTS = "redirect-uris"
    ROLE = "role"
    BUNDLE = "role-bundle"
    GROUP = "group"
    PERSON = "person"
    REACH = "reach"
    CATALOGUE = "catalogue"
    COLLECTIONS = "collections"
    POLICY = "policy"
    RESTORATION = "restoration"
    PROVIDER = "provider"


ACT_WORDS: Mapping[ActKind, str] = {
    ActKind.OWNERS: "Change who owns it",
    ActKind.CREDENTIAL: "Add a credential",
    ActKind.REDIRECTS: "Add redirect URIs",
    ActKind.ROLE: "Assign a role",
    ActKind.BUNDLE: "Let a role bundle more",
    ActKind.GROUP: "Change who is in a group",
    ActKind.PERSON: "Change a person",
    ActKind.REACH: "Widen a reach",
    ActKind.CATALOGUE: "Let granted permissions open more",
    ActKind.COLLECTIONS: "Put more objects into collections that are reached",
    ActKind.POLICY: "Loosen the policy",
    ActKind.RESTORATION: "Restore it",
    ActKind.PROVIDER: "Let people sign in by another provider",
}


@dataclass(frozen=True, slots=True)
class Proposal:
    """An act that waits for another person's yes, as it was asked for.

    Attributes:
        client_id: of the client that it is about; None where it is about none.
        subject: what it is about, in words.
        args: all that it takes to do it, or to know it again; without secrets.
        weight: what it would let somebody do, beyond what they may do.
        approvers: how many others must say yes.
        why: one sentence, why another person must agree. `way`: one sentence, which way needs none; may be empty.
    """

    act: ActKind
    client_id: str | None
    subject: str
    args: Mapping[str, Any]
    weight: float
    approvers: int
    why: str
    way: str = ""

    def digest(self) -> bytes:
        """Return by what the same act is known again: what is done to what, never how heavy it was."""
        said = json.dumps([self.act.value, self.client_id, self.args], sort_keys=True, default=str)
        return hashlib.sha256(said.encode()).digest()


def agreeing(weight: float, policy: DirectoryPolicy) -> int:
    """Return how many others must say yes to what one person would do alone."""
    if weight < policy.two_people_weight:
        return 0
    return 2 if weight >= policy.two_approvers_weight else 1


def independent(one: Collection[str], other: Collection[str]) -> bool:
    """Tell whether two yeses come from two people, given everybody who could have said each of them."""
    return frozenset(one).isdisjoint(other)


def nobody_words(needed: int, could: Sequence[str]) -> tuple[str, str]:
    """Return what stands against waiting for people who are not there, and the smallest change that would help."""
    people = "one other person" if needed == 1 else f"{needed} other people"
    named = f"only {', '.join(could)} could" if could else "nobody else here could"
    missing = needed - len(could)
    more = "one more person" if missing == 1 else f"{missing} more people"
    return (
        f"This needs the yes of {people}, and {named}.",
        f"Have a steward make {more} approver, or do less: fewer permissions or a narrower reach.",
    )
