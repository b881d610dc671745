"""Ways that were gone before one person could no longer go them alone: found in the ledger, as long as they matter."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime

from jamb.core.access import HeldGrant
from jamb.core.audit.findings import Family, Finding, RemedyKind, Rule, Severity, day, exact, finding
from jamb.core.audit.past import LOOKED_BACK, Done, agreed
from jamb.core.audit.picture import ClientPicture, ResourcePicture
from jamb.core.directory.policy import DirectoryPolicy
from jamb.core.ladder import Rung
from jamb.core.permissions import AccessKind, weigh

_GIVES = frozenset({"secret.issued", "secret.imported", "credential.added"})
_ROLE = "the role "
_AGAIN = "End it and have it asked for and consented to anew, or have another person look at it and waive it."


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


def _giving(client: ClientPicture, place: ResourcePicture, rung: Rung) -> list[Done]:
    """Return the entries by which the consents to a permission that stand were given."""
    given = [
        one
        for one in client.past
        if one.action == "consent.granted"
        and one.after.get("resource") == place.catalogue.name
        and rung.permission in (one.after.get("permissions") or [])
    ]
    found = []
    for grant in rung.grants:
        before = [one for one in given if one.at <= grant.granted_at]
        if before and not grant.through:
            found.append(max(before, key=lambda one: one.at))
    return found


def _consents(rung: Rung) -> list[HeldGrant]:
    return [one for one in rung.grants if not one.through]


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
    weaker = {one.id: one for one in client.owners if one.live and one.full and one.beyond_weight}
    for one in _recent(client, now, "owners.changed"):
        before, after = one.before.get("owners") or [], one.after.get("owners") or []
        owner = weaker.pop(one.by_id, None) if one.by in after and one.by not in before else None
        if owner is not None and owner.beyond_weight >= policy.two_people_weight:
            yield finding(
                "owner-by-own-hand",
                client,
                one.by,
                _grave(owner.beyond_weight, policy),
                f"{one.by} made themself its owner on {day(one.at)}, and could do more by it ever since",
                {"at": exact(one.at), "weight beyond their own": str(owner.beyond_weight)},
                "Have another person decide whether they are to own it; take them off if not, and rotate what it has.",
                RemedyKind.NAME_OWNER,
            )


def _seen(client: ClientPicture, policy: DirectoryPolicy, now: datetime) -> Iterator[Finding]:
    weight = _weight(client)
    if weight < policy.two_people_weight:
        return
    owners = {one.id for one in client.owners if one.full}
    working = {one.id: one for one in client.credentials if one.works(now)}
    told: set[str] = set()
    for one in _recent(client, now, *_GIVES):
        held = working.get(one.subject.get("id", ""))
        if held is None or held.id in told or one.by_id in owners or one.by_id == client.id:
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
                RemedyKind.ROTATE,
                held.id,
            )


def _both(client: ClientPicture, policy: DirectoryPolicy, now: datetime) -> Iterator[Finding]:
    """Asked and consented by one, whether at once or in slices; or consented to by a client."""
    asked: dict[tuple[str, str], set[str]] = {}
    for one in client.past:
        if one.action == "permission.asked":
            for name in one.after.get("permissions") or []:
                asked.setdefault((str(one.after.get("resource")), name), set()).add(one.by_id)
    recent = list(_recent(client, now, "consent.granted"))
    alone: dict[tuple[str, str], list[tuple[ResourcePicture, Rung, Done]]] = {}
    for place, rung in _rungs(client):
        for one in _giving(client, place, rung):
            # What was judged when it was given has its weight noted.
            if one in recent and "weight" not in one.after:
                asker = one.by_id in asked.get((place.catalogue.name, rung.permission), set())
                if asker or one.by_kind == "client":
                    alone.setdefault((one.by, one.by_id), []).append((place, rung, one))
    for (by, _), rows in sorted(alone.items(), key=lambda pair: pair[0]):
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
                {
                    "permissions": ", ".join(sorted({row[1].permission for row in rows})),
                    "from": exact(min(row[2].at for row in rows)),
                    "to": exact(max(row[2].at for row in rows)),
                },
                _AGAIN,
                RemedyKind.END_CONSENT,
                _target(place, rung),
            )


def _role_alone(client: ClientPicture, policy: DirectoryPolicy, now: datetime) -> Iterator[Finding]:
    for place in client.resources:
        by_role: dict[str, set[str]] = {}
        for rung in place.rungs:
            for grant in rung.grants:
                if grant.through:
                    by_role.setdefault(grant.through.removeprefix(_ROLE), set()).add(rung.permission)
        latest = {one.subject.get("role", ""): one for one in client.past if one.action == "role.assigned"}
        recent = list(_recent(client, now, "role.assigned"))
        for role, one in latest.items():
            if one not in recent:
                continue
            weight = weigh(place.catalogue, place.catalogue.opened_by_all(by_role.get(role, set())))
            if weight >= policy.two_people_weight:
                yield finding(
                    "role-given-alone",
                    client,
                    f"{place.catalogue.name}/{role}",
                    _grave(weight, policy),
                    f"{one.by} alone gave it the role {role}, which weighs {weight}",
                    {"at": exact(one.at), "resource": place.catalogue.name},
                    "Have another person agree to it, or withdraw the role.",
                    RemedyKind.WITHDRAW_ROLE,
                    f"{place.catalogue.name}/{_ROLE}{role}",
                )


def _restored(client: ClientPicture, policy: DirectoryPolicy, now: datetime) -> Iterator[Finding]:
    weight = _weight(client)
    latest = next((one for one in reversed(client.past) if one.action == "client.restored"), None)
    if (
        latest is not None
        and latest in list(_recent(client, now, "client.restored"))
        and weight >= policy.two_people_weight
    ):
        yield finding(
            "restored-alone",
            client,
            "",
            _grave(weight, policy),
            f"{latest.by} alone restored it on {day(latest.at)}, with all it had held",
            {"at": exact(latest.at), "weight": str(weight)},
            "Look through what it holds; end what nobody needs.",
            RemedyKind.LOOK,
        )


def _changed(client: ClientPicture, _policy: DirectoryPolicy, now: datetime) -> Iterator[Finding]:
    """What was changed under a consent, before such a change was kept within what was consented to."""
    changes = list(_recent(client, now, "resource.changed", "collections.replaced"))
    for place, rung in _rungs(client):
        consents = _consents(rung)
        if not consents:
            continue
        since = min(one.granted_at for one in consents)
        under = [
            (one, renamed)
            for one in changes
            if one.subject.get("name") == place.catalogue.name
            and one.at > since
            and "kept" not in one.after
            and ((renamed := _renamed(one)) or _touches(one, place, rung, consents))
        ]
        if not under:
            continue
        # The gravest is told, of equals the first.
        one, renamed = min(under, key=lambda pair: (not pair[1], pair[0].at))
        what = "was given another identifier" if renamed else f"changed what {rung.permission} opens, or where"
        yield finding(
            "changed-after-consent",
            client,
            _target(place, rung),
            Severity.HIGH if renamed else Severity.LOW,
            f"{place.catalogue.title} {what}, after it was consented to",
            {"consented": exact(since), "changed": exact(one.at), "by": one.by},
            "Compare what it opens with what was meant; have it consented to anew.",
            RemedyKind.END_CONSENT,
            _target(place, rung),
        )


def _renamed(one: Done) -> bool:
    return one.before.get("identifier") not in (None, one.after.get("identifier"))


def _touches(one: Done, place: ResourcePicture, rung: Rung, consents: list[HeldGrant]) -> bool:
    names = {rung.permission, *place.catalogue.opened_by(rung.permission)}
    changed = {*(one.after.get("permissions changed") or []), *(one.after.get("operations changed") or [])}
    reached = frozenset().union(*(grant.reach.collections for grant in consents))
    return bool(names & changed or reached & set(one.after.get("other objects") or []))


def _shadow(client: ClientPicture, _policy: DirectoryPolicy, now: datetime) -> Iterator[Finding]:
    recent = list(_recent(client, now, "consent.granted"))
    for place, rung in _rungs(client):
        for one in _giving(client, place, rung):
            if one not in recent or "weight" in one.after or one.after.get("newly possible") != []:
                continue
            ended = _shading(place, rung, one.at)
            if ended is not None:
                yield finding(
                    "held-already-by-what-ended",
                    client,
                    _target(place, rung),
                    Severity.MEDIUM,
                    f"{rung.permission} was consented to as adding nothing, beside a role that has ended since",
                    {"consented": exact(one.at), "by": one.by, "role ended": exact(ended)},
                    _AGAIN,
                    RemedyKind.END_CONSENT,
                    _target(place, rung),
                )
                break


def _shading(place: ResourcePicture, rung: Rung, at: datetime) -> datetime | None:
    """Return when a role ended last that opened at a moment all that a permission opens; None: there was none."""
    by_role: dict[str, set[str]] = {}
    ends: dict[str, datetime] = {}
    for one in place.ended:
        if one.through and one.expires_at is not None and one.granted_at <= at < one.expires_at:
            by_role.setdefault(one.through, set()).add(one.permission)
            ends[one.through] = max(ends.get(one.through, one.expires_at), one.expires_at)
    opened = place.catalogue.opened_by(rung.permission)
    return max(
        (ends[role] for role, names in by_role.items() if place.catalogue.opened_by_all(names) >= opened), default=None
    )


def _loose(client: ClientPicture, policy: DirectoryPolicy, now: datetime) -> Iterator[Finding]:
    """Consents of the days in which a limit was raised and set back."""
    windows = [
        (raised, back)
        for raised in _recent(client, now, "policy.changed")
        for name in ("two_people_weight", "two_approvers_weight")
        if name in raised.before
        and raised.before[name] < raised.after.get(name, 0)
        and (back := _set_back(client, raised, name)) is not None
    ]
    for place, rung in _rungs(client) if windows else ():
        if weigh(place.catalogue, place.catalogue.opened_by(rung.permission)) < policy.two_people_weight:
            continue
        within = [
            (raised, back, one)
            for raised, back in windows
            for one in _consents(rung)
            if raised.at <= one.granted_at <= back.at
        ]
        if within:
            raised, back, granted = within[0]
            yield finding(
                "granted-under-loose-limits",
                client,
                _target(place, rung),
                Severity.HIGH,
                f"{rung.permission} was consented to while {raised.by} had raised the limits",
                {"raised": exact(raised.at), "consented": exact(granted.granted_at), "set back": exact(back.at)},
                _AGAIN,
                RemedyKind.END_CONSENT,
                _target(place, rung),
            )


def _set_back(client: ClientPicture, raised: Done, name: str) -> Done | None:
    """Return the first later change by which a limit became what it had been, or less."""
    return next(
        (
            one
            for one in client.past
            if one.action == "policy.changed"
            and one.at > raised.at
            and name in one.after
            and one.after[name] <= raised.before[name]
        ),
        None,
    )


_TWO = "ISO/IEC 27002:2022 control 5.3 (segregation of duties)"
_BY_WEIGHT = "By that weight: high from `two_approvers_weight`, medium below it."
RULES = (
    Rule(
        "owner-by-own-hand",
        Family.PRIVILEGE,
        "Owner by their own hand",
        why=(
            "Who made themself owner of what may do more than they may could act as it, and nobody else agreed to that."
        ),
        when=(
            "Somebody added themself to the owners, is a live owner who answers for everything, and what the client "
            "may do and they may not (as for “Owner weaker than what they own”) weighs `two_people_weight` or more."
        ),
        how_bad=_BY_WEIGHT,
        reference=_TWO,
        find=_own_hand,
        found=("made themself owner of more",),
        passed=(
            "made themself owner, and another agreed",
            "made themself owner of what they may do",
        ),
    ),
    Rule(
        "credential-seen-by-another",
        Family.CREDENTIALS,
        "Credential seen by somebody who does not own the client",
        why="Whoever has seen it can act as the client, whatever their own roles allow.",
        when=(
            "Somebody other than the client itself issued, imported or added a credential that works, saw it, and is "
            "no owner who answers for everything; and what the client may do as itself weighs `two_people_weight` or "
            "more."
        ),
        how_bad=_BY_WEIGHT,
        reference=_TWO,
        find=_seen,
        found=("a secret seen by a stranger",),
        passed=("a secret of little seen by a stranger",),
    ),
    Rule(
        "asked-and-consented-by-one",
        Family.PRIVILEGE,
        "Asked for and consented to by one",
        why="What is heavy takes two people: in small parts, or through a client of one's own, it was one.",
        when=(
            "Permissions that the client holds as itself were consented to by whoever had asked for them, or by a "
            "client; all that one person or client consented to so weighs `two_people_weight` or more; and the "
            "consents were not weighed when they were given."
        ),
        how_bad=_BY_WEIGHT,
        reference=_TWO,
        find=_both,
        found=("asked and consented by one",),
        passed=(
            "asked and consented by two",
            "asked and consented by one, as it was judged",
        ),
    ),
    Rule(
        "role-given-alone",
        Family.PRIVILEGE,
        "Heavy role given to a client by one person",
        why="A role opens as much as a consent, and nobody asked for it or agreed to it.",
        when=(
            "A role was given to the client that it holds, and whose permissions weigh `two_people_weight` or more at "
            "its resource."
        ),
        how_bad=_BY_WEIGHT,
        reference=_TWO,
        find=_role_alone,
        found=("a heavy role from one",),
        passed=("a light role from one",),
    ),
    Rule(
        "restored-alone",
        Family.REGISTRATION,
        "Restored by one person with all it held",
        why="What a removal ended came back by one yes, whatever it weighs.",
        when=(
            "The client was restored, and what it may do as itself weighs `two_people_weight` or more. The latest "
            "counts."
        ),
        how_bad=_BY_WEIGHT,
        reference=_TWO,
        find=_restored,
        found=("restored by one",),
        passed=(
            "restored with little",
            "restored long ago",
        ),
    ),
    Rule(
        "changed-after-consent",
        Family.PRIVILEGE,
        "Changed after it was consented to",
        why=(
            "What a permission opens, what lies in its collections, or by which name a guard knows the resource is "
            "not what whoever consented saw."
        ),
        when=(
            "After a permission was consented to that the client holds as itself, its resource got another "
            "identifier, or a catalogue or collections were published that changed what the permission opens, or the "
            "objects of a collection to which it is bounded; and the change was not kept within what was consented "
            "to."
        ),
        how_bad="High where the resource got another identifier, else low.",
        reference=_TWO,
        find=_changed,
        found=(
            "changed since",
            "renamed since",
        ),
        passed=(
            "changed within what was consented to",
            "changed before",
        ),
    ),
    Rule(
        "held-already-by-what-ended",
        Family.PRIVILEGE,
        "Consented to in the shadow of a role",
        why=(
            "It was shown as adding nothing, because a role opened the same; the role is gone, and it opens all of it "
            "now."
        ),
        when=(
            "A consent was shown as making nothing newly possible and was not weighed; a role that the client held at "
            "the resource when it was given, and that opened all that the permission opens, has ended since; and the "
            "consent stands."
        ),
        how_bad="Always medium.",
        reference=_TWO,
        find=_shadow,
        found=(
            "in the shadow of a role",
            "in the shadow of a role that ended by itself",
        ),
        passed=("beside a role that stands",),
    ),
    Rule(
        "granted-under-loose-limits",
        Family.PRIVILEGE,
        "Consented to while the limits were raised",
        why="Limits that are raised, used and set back bound nobody.",
        when=(
            "`two_people_weight` or `two_approvers_weight` was raised, and later set back to what it had been or "
            "lower; a permission that the client holds as itself, and that weighs `two_people_weight` or more, was "
            "consented to from the one moment to the other."
        ),
        how_bad="Always high.",
        reference=_TWO,
        find=_loose,
        found=("while limits were raised",),
        passed=("after limits were set back",),
    ),
)
