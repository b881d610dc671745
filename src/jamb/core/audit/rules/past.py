"""Ways that were gone before one person could no longer go them alone: found in the ledger, as long as they matter."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime
from itertools import pairwise

from jamb.core.audit.findings import Act, Family, Finding, Rule, Severity, day, exact, finding
from jamb.core.audit.past import LOOKED_BACK, Done, agreed
from jamb.core.audit.picture import ClientPicture, ResourcePicture
from jamb.core.ladder import Rung
from jamb.core.permissions import AccessKind, weigh
from jamb.core.policy import DirectoryPolicy

_GIVES = frozenset({"secret.issued", "secret.imported", "credential.added"})
_ROLE = "the role "
_AGAIN = "End it and have it asked for and consented to anew, or have another person look at it and bear it knowingly."


def _recent(client: ClientPicture, now: datetime, *actions: str) -> Iterator[Done]:
    """Yield what a person or client did, of these actions, that rules still look at."""
    for one in client.past:
        if one.action in actions and one.by_somebody and now - one.at < LOOKED_BACK and not agreed(one, client.past):
            yield one


def _rungs(client: ClientPicture) -> Iterator[tuple[ResourcePicture, Rung]]:
    for place in client.resources:
        for rung in place.rungs:
            if rung.granted is not None and rung.kind is AccessKind.APPLICATION:
                yield place, rung


def _weight(client: ClientPicture) -> int:
    """Return the weight of what a client may do as itself."""
    return sum(
        weigh(
            place.catalogue,
            place.catalogue.opened_by_all(rung.permission for at, rung in _rungs(client) if at is place),
        )
        for place in client.resources
    )


def _grave(weight: float, policy: DirectoryPolicy) -> Severity:
    return Severity.HIGH if weight >= policy.two_approvers_weight else Severity.MEDIUM


def _target(place: ResourcePicture, rung: Rung) -> str:
    return f"{place.catalogue.name}/{rung.permission}/{rung.kind.value}"


def _own_hand(client: ClientPicture, policy: DirectoryPolicy, now: datetime) -> Iterator[Finding]:
    weaker = {one.name: one for one in client.owners if one.live and one.full and one.beyond_weight}
    for one in _recent(client, now, "owners.changed"):
        before, after = one.before.get("owners") or [], one.after.get("owners") or []
        owner = weaker.pop(one.by, None) if one.by in after and one.by not in before else None
        if owner is not None and owner.beyond_weight >= policy.two_people_weight:
            yield finding(
                "owner-by-own-hand",
                client,
                one.by,
                _grave(owner.beyond_weight, policy),
                f"{one.by} made themself its owner on {day(one.at)}, and could do more by it ever since",
                {"at": exact(one.at), "weight beyond their own": str(owner.beyond_weight)},
                "Have another person decide whether they are to own it; take them off if not, and rotate what it has.",
                Act.NAME_OWNER,
            )


def _seen(client: ClientPicture, policy: DirectoryPolicy, now: datetime) -> Iterator[Finding]:
    weight = _weight(client)
    if weight < policy.two_people_weight:
        return
    owners = {one.name for one in client.owners if one.full}
    working = {one.id: one for one in client.credentials if one.works(now)}
    told: set[str] = set()
    for one in _recent(client, now, *_GIVES):
        held = working.get(one.subject.get("id", ""))
        if held is None or held.id in told or one.by in owners or one.by_id == client.id:
            continue
        if not one.after.get("unseen"):
            told.add(held.id)
            yield finding(
                "credential-seen-by-another",
                client,
                held.id,
                _grave(weight, policy),
                f"{one.by}, who does not own it, has seen {held.name} and could act as it",
                {"at": exact(one.at), "weight": str(weight)},
                "Rotate it, and have the new one delivered to the owners.",
                Act.ROTATE,
                held.id,
            )


def _both(client: ClientPicture, policy: DirectoryPolicy, now: datetime) -> Iterator[Finding]:
    """Asked and consented by one, whether at once or in slices; or consented to by a client."""
    asked: dict[tuple[str, str], set[str]] = {}
    for one in client.past:
        if one.action == "permission.asked":
            for name in one.after.get("permissions") or []:
                asked.setdefault((str(one.after.get("resource")), name), set()).add(one.by_id)
    alone: dict[str, list[tuple[ResourcePicture, Rung, Done]]] = {}
    for one in _recent(client, now, "consent.granted"):
        if "weight" in one.after:
            # Judged when it was given.
            continue
        for place, rung in _rungs(client):
            key = (place.catalogue.name, rung.permission)
            here = one.after.get("resource") == key[0] and rung.permission in (one.after.get("permissions") or [])
            if here and (one.by_kind == "client" or one.by_id in asked.get(key, set())):
                alone.setdefault(one.by, []).append((place, rung, one))
    for by, rows in sorted(alone.items()):
        places = {id(place): place for place, _, _ in rows}
        weight = sum(
            weigh(
                place.catalogue, place.catalogue.opened_by_all(rung.permission for at, rung, _ in rows if at is place)
            )
            for place in places.values()
        )
        if weight >= policy.two_people_weight:
            place, rung, _ = max(
                rows, key=lambda row: weigh(row[0].catalogue, row[0].catalogue.opened_by(row[1].permission))
            )
            yield finding(
                "asked-and-consented-by-one",
                client,
                by,
                _grave(weight, policy),
                f"{by} asked for what weighs {weight} and consented to it alone",
                {"permissions": ", ".join(sorted({row[1].permission for row in rows})),
                 "from": exact(min(row[2].at for row in rows)), "to": exact(max(row[2].at for row in rows))},
                _AGAIN,
                Act.END_CONSENT,
                _target(place, rung),
            )  # fmt: skip


def _role_alone(client: ClientPicture, policy: DirectoryPolicy, now: datetime) -> Iterator[Finding]:
    for place in client.resources:
        by_role: dict[str, set[str]] = {}
        for rung in place.rungs:
            for grant in rung.grants:
                if grant.through:
                    by_role.setdefault(grant.through.removeprefix(_ROLE), set()).add(rung.permission)
        for one in _recent(client, now, "role.assigned"):
            role = one.subject.get("role", "")
            weight = weigh(place.catalogue, place.catalogue.opened_by_all(by_role.pop(role, set())))
            if weight >= policy.two_people_weight:
                yield finding(
                    "role-given-alone",
                    client,
                    f"{place.catalogue.name}/{role}",
                    _grave(weight, policy),
                    f"{one.by} alone gave it the role {role}, which weighs {weight}",
                    {"at": exact(one.at), "resource": place.catalogue.name},
                    "Have another person agree to it, or withdraw the role.",
                    Act.WITHDRAW_ROLE,
                    f"{place.catalogue.name}/{_ROLE}{role}",
                )


def _restored(client: ClientPicture, policy: DirectoryPolicy, now: datetime) -> Iterator[Finding]:
    weight = _weight(client)
    latest = max(_recent(client, now, "client.restored"), key=lambda one: one.at, default=None)
    if latest is not None and weight >= policy.two_people_weight:
        yield finding(
            "restored-alone",
            client,
            "",
            _grave(weight, policy),
            f"{latest.by} alone restored it on {day(latest.at)}, with all it had held",
            {"at": exact(latest.at), "weight": str(weight)},
            "Look through what it holds; end what nobody needs.",
            Act.LOOK,
        )


def _changed(client: ClientPicture, _policy: DirectoryPolicy, now: datetime) -> Iterator[Finding]:
    """What was changed under a consent, before such a change was kept within what was consented to."""
    for place, rung in _rungs(client):
        granted = rung.granted
        assert granted is not None
        names = {rung.permission, *place.catalogue.opened_by(rung.permission)}
        for one in _recent(client, now, "resource.changed", "collections.replaced"):
            if one.subject.get("name") != place.catalogue.name or one.at <= granted.granted_at or "kept" in one.after:
                continue
            renamed = one.before.get("identifier") not in (None, one.after.get("identifier"))
            touched = names & {
                *(one.after.get("permissions changed") or []), *(one.after.get("operations changed") or []),
            } or granted.reach.collections & set(one.after.get("other objects") or [])  # fmt: skip
            if renamed or touched:
                what = "was given another identifier" if renamed else f"changed what {rung.permission} opens, or where"
                yield finding(
                    "changed-after-consent",
                    client,
                    _target(place, rung),
                    Severity.HIGH if renamed else Severity.LOW,
                    f"{place.catalogue.title} {what}, after it was consented to",
                    {"consented": exact(granted.granted_at), "changed": exact(one.at), "by": one.by},
                    "Compare what it opens with what was meant; have it consented to anew.",
                    Act.END_CONSENT,
                    _target(place, rung),
                )
                break


def _shadow(client: ClientPicture, _policy: DirectoryPolicy, now: datetime) -> Iterator[Finding]:
    ended = [one.at for one in client.past if one.action == "role.withdrawn"]
    for one in _recent(client, now, "consent.granted"):
        if "weight" in one.after or one.after.get("newly possible") != [] or not any(at > one.at for at in ended):
            continue
        for place, rung in _rungs(client):
            named = rung.permission in (one.after.get("permissions") or [])
            if (
                named
                and one.after.get("resource") == place.catalogue.name
                and rung.granted
                and not rung.granted.through
            ):
                yield finding(
                    "held-already-by-what-ended",
                    client,
                    _target(place, rung),
                    Severity.MEDIUM,
                    f"{rung.permission} was consented to as adding nothing, beside a role that has ended since",
                    {"consented": exact(one.at), "by": one.by, "role ended": exact(max(ended))},
                    _AGAIN,
                    Act.END_CONSENT,
                    _target(place, rung),
                )


def _loose(client: ClientPicture, policy: DirectoryPolicy, now: datetime) -> Iterator[Finding]:
    """Consents of the days in which the limits were raised and set back."""
    changes = sorted(_recent(client, now, "policy.changed"), key=lambda one: one.at)
    limits = ("two_people_weight", "two_approvers_weight")
    for raised, back in pairwise(changes):
        loose = any(
            name in raised.before and raised.before[name] < raised.after.get(name, 0) and name in back.after
            and back.after[name] <= raised.before[name]
            for name in limits
        )  # fmt: skip
        if not loose:
            continue
        for place, rung in _rungs(client):
            granted = rung.granted
            opened = weigh(place.catalogue, place.catalogue.opened_by(rung.permission))
            if granted and raised.at <= granted.granted_at <= back.at and opened >= policy.two_people_weight:
                yield finding(
                    "granted-under-loose-limits",
                    client,
                    _target(place, rung),
                    Severity.HIGH,
                    f"{rung.permission} was consented to while {raised.by} had raised the limits",
                    {"raised": exact(raised.at), "consented": exact(granted.granted_at), "set back": exact(back.at)},
                    _AGAIN,
                    Act.END_CONSENT,
                    _target(place, rung),
                )


_TWO = "ISO/IEC 27002:2022 control 5.3 (segregation of duties)"
_BY_WEIGHT = "By the weight: high from the weight that takes two approvers, medium from the one that takes two people."
RULES = (
    Rule(
        "owner-by-own-hand", Family.PRIVILEGE, "Owner by their own hand",
        "Who made themself owner of what may do more than they may could act as it, and nobody else agreed to that.",
        _BY_WEIGHT, _TWO, _own_hand,
    ),
    Rule(
        "credential-seen-by-another", Family.CREDENTIALS, "Credential seen by somebody who does not own the client",
        "Whoever has seen it can act as the client, and do what their own roles do not allow.",
        _BY_WEIGHT, _TWO, _seen,
    ),
    Rule(
        "asked-and-consented-by-one", Family.PRIVILEGE, "Asked for and consented to by one",
        "What is heavy takes two people: in small parts, or through a client of one's own, it was one.",
        _BY_WEIGHT, _TWO, _both,
    ),
    Rule(
        "role-given-alone", Family.PRIVILEGE, "Heavy role given to a client by one person",
        "A role opens as much as a consent, and nobody asked for it or agreed to it.",
        _BY_WEIGHT, _TWO, _role_alone,
    ),
    Rule(
        "restored-alone", Family.REGISTRATION, "Restored by one person with all it held",
        "What a removal ended came back by one yes, whatever it weighs.",
        _BY_WEIGHT, _TWO, _restored,
    ),
    Rule(
        "changed-after-consent", Family.PRIVILEGE, "Changed after it was consented to",
        "What a permission opens, what lies in its collections, or by which name a guard knows the resource is not what"
        " whoever consented saw.",
        "High where the resource got another identifier, else low.", _TWO, _changed,
    ),
    Rule(
        "held-already-by-what-ended", Family.PRIVILEGE, "Consented to in the shadow of a role",
        "It was shown as adding nothing, because a role opened the same; the role is gone, and it opens all of it now.",
        "Always medium.", _TWO, _shadow,
    ),
    Rule(
        "granted-under-loose-limits", Family.PRIVILEGE, "Consented to while the limits were raised",
        "Limits that are raised, used and set back bound nobody.",
        "Always high.", _TWO, _loose,
    ),
)  # fmt: skip
