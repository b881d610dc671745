"""Charters: what a registration is to be, in any directory, and by which steps one that is there becomes so.

A charter says nothing of people, client ids or secrets: those are a directory's own. It speaks for consents that cover
everyone and for what a client asks; roles, and consents for one person, are left as they are.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from datetime import timedelta
from enum import StrEnum

from jamb.core.clients.clients import ClientKind
from jamb.core.credentials.kinds import CredentialKind
from jamb.core.permissions import AccessKind
from jamb.core.reach import EVERYWHERE, Reach

Place = tuple[str, AccessKind]


@dataclass(frozen=True, slots=True)
class CharterAsk:
    """A permission that the client is to ask, and to be granted with this reach."""

    resource: str
    permission: str
    kind: AccessKind = AccessKind.APPLICATION
    reach: Reach = EVERYWHERE
    reason: str = ""

    @property
    def place(self) -> Place:
        return self.resource, self.kind


@dataclass(frozen=True, slots=True)
class CharterCredential:
    """How the client is to prove itself, and how many days one credential may live; None: as the policy says."""

    kind: CredentialKind
    days: int | None = None


@dataclass(frozen=True, slots=True)
class Charter:
    name: str
    purpose: str
    kind: ClientKind = ClientKind.SERVICE
    redirect_uris: tuple[str, ...] = ()
    publisher: str = ""
    asks: tuple[CharterAsk, ...] = ()
    credential: CharterCredential | None = None
    post_logout_redirect_uris: tuple[str, ...] = ()
    backchannel_logout_uri: str = ""
    sign_in_groups: tuple[str, ...] = ()
    support_contact: str = ""
    client_uri: str = ""
    policy_uri: str = ""
    tos_uri: str = ""
    grant_types: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class HeldCredential:
    """A credential that works. `life`: from start to end; None: it has no expiry."""

    kind: CredentialKind
    name: str
    life: timedelta | None


@dataclass(frozen=True, slots=True)
class Standing:
    """A registration as it is. `granted`: consents for everyone that are in force; `asked`: with the wished reach."""

    kind: ClientKind
    purpose: str
    redirect_uris: tuple[str, ...]
    publisher: str
    asked: Mapping[Place, Mapping[str, Reach]]
    granted: Mapping[Place, Mapping[str, Reach]]
    credentials: tuple[HeldCredential, ...]
    post_logout_redirect_uris: tuple[str, ...] = ()
    backchannel_logout_uri: str = ""
    sign_in_groups: tuple[str, ...] = ()
    support_contact: str = ""
    client_uri: str = ""
    policy_uri: str = ""
    tos_uri: str = ""
    grant_types: tuple[str, ...] = ()


class StepKind(StrEnum):
    """In the order in which they are taken: what is given comes before what is taken away.

    kind: what nobody can change. register, change: the registration itself. ask, consent, reach, withdraw, drop: one
    permission. credential: what only who keeps credentials does, by hand.
    """

    KIND = "kind"
    REGISTER = "register"
    CHANGE = "change"
    ASK = "ask"
    CONSENT = "consent"
    REACH = "reach"
    WITHDRAW = "withdraw"
    DROP = "drop"
    CREDENTIAL = "credential"


@dataclass(frozen=True, slots=True)
class Step:
    """One difference, as what would end it. `here` and `declared` say it in words; `reach`, `reason`: as declared."""

    kind: StepKind
    what: str
    here: str
    declared: str
    resource: str = ""
    permission: str = ""
    access: AccessKind | None = None
    reach: Reach = EVERYWHERE
    reason: str = ""


def steps(charter: Charter, standing: Standing | None) -> tuple[Step, ...]:
    """Return what differs, in the order in which it is to be done; `standing` None: there is no such client."""
    found: list[Step] = []
    if standing is None:
        found.append(Step(StepKind.REGISTER, "registration", "none", charter.name))
    else:
        found += _registration_steps(charter, standing)
    asked = standing.asked if standing is not None else {}
    granted = standing.granted if standing is not None else {}
    for one in charter.asks:
        found += _declared_steps(
            one, asked.get(one.place, {}).get(one.permission), granted.get(one.place, {}).get(one.permission)
        )
    declared = {(one.place, one.permission) for one in charter.asks}
    found += [
        Step(
            StepKind.WITHDRAW, f"{place[0]} {name}", f"granted {reach.words}", "not declared", place[0], name, place[1]
        )
        for place, name, reach in _flat(granted)
        if (place, name) not in declared
    ]
    found += [
        Step(StepKind.DROP, f"{place[0]} {name}", "asked", "not declared", place[0], name, place[1])
        for place, name, _ in _flat(asked)
        if (place, name) not in declared
    ]
    found += _credential_steps(charter.credential, standing.credentials if standing is not None else ())
    order = list(StepKind)
    return tuple(sorted(found, key=lambda one: (order.index(one.kind), one.resource, one.permission)))


def _registration_steps(charter: Charter, standing: Standing) -> list[Step]:
    found = []
    if standing.kind is not charter.kind:
        found.append(Step(StepKind.KIND, "kind", standing.kind.value, charter.kind.value))
    for name, what in SAID.items():
        here, declared = (_listed(getattr(one, name)) for one in (standing, charter))
        if here != declared:
            found.append(Step(StepKind.CHANGE, what, here or "none", declared or "none"))
    return found


# What a registration says beside its name and kind, and how it is called: of a charter, and of what stands.
SAID: Mapping[str, str] = {
    "purpose": "purpose",
    "redirect_uris": "redirect URIs",
    "post_logout_redirect_uris": "post-logout redirect URIs",
    "backchannel_logout_uri": "back-channel logout URI",
    "publisher": "publisher",
    "sign_in_groups": "groups whose people may sign in",
    "support_contact": "support contact",
    "client_uri": "home page",
    "policy_uri": "privacy policy",
    "tos_uri": "terms of use",
    "grant_types": "grant types",
}


def _listed(value: str | tuple[str, ...]) -> str:
    return value if isinstance(value, str) else ", ".join(value)


def _declared_steps(one: CharterAsk, asked: Reach | None, granted: Reach | None) -> list[Step]:
    """Return the steps for one declared permission. What its ask wishes is of no account once it is granted."""

    def step(kind: StepKind, here: str, declared: str) -> Step:
        what = f"{one.resource} {one.permission}"
        return Step(kind, what, here, declared, one.resource, one.permission, one.kind, one.reach, one.reason)

    found = []
    if asked is None or (granted is None and asked != one.reach):
        here = "not asked" if asked is None else f"asked {asked.words}"
        found.append(step(StepKind.ASK, here, f"asked {one.reach.words}"))
    if granted is None:
        found.append(step(StepKind.CONSENT, "not granted", f"granted {one.reach.words}"))
    elif granted != one.reach:
        found.append(step(StepKind.REACH, f"granted {granted.words}", f"granted {one.reach.words}"))
    return found


def _credential_steps(wanted: CharterCredential | None, held: tuple[HeldCredential, ...]) -> list[Step]:
    if wanted is None:
        return []
    bound = f", at most {wanted.days} days" if wanted.days is not None else ""
    declared = f"a {wanted.kind.words}{bound}"
    longest = timedelta(days=wanted.days) if wanted.days is not None else None
    wrong = [
        Step(StepKind.CREDENTIAL, "credential", f"{one.name} {_lives(one)}", declared)
        for one in held
        if one.kind is not wanted.kind or (longest is not None and (one.life is None or one.life > longest))
    ]
    if not held:
        wrong.append(Step(StepKind.CREDENTIAL, "credential", "none that works", declared))
    return wrong


def _lives(one: HeldCredential) -> str:
    if one.life is None:
        return "without an end"
    days = round(one.life / timedelta(days=1))
    return f"for {days} day{'' if days == 1 else 's'}"


def _flat(held: Mapping[Place, Mapping[str, Reach]]) -> Iterable[tuple[Place, str, Reach]]:
    for place in sorted(held):
        for name in sorted(held[place]):
            yield place, name, held[place][name]
