"""Privilege beyond the need."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime, timedelta

from jamb.core import own_api
from jamb.core.audit.findings import Act, Family, Finding, Rule, Severity, day, exact, finding, on
from jamb.core.audit.picture import ClientPicture, ResourcePicture
from jamb.core.ladder import Rung, UsedState
from jamb.core.permissions import AccessKind, Effect, smallest, weigh
from jamb.core.policy import DirectoryPolicy
from jamb.core.reach import EVERYWHERE

# Weight from which an unused permission is worse: one write to restricted data, or control of internal data.
HIGH_WEIGHT = 24
MEDIUM_WEIGHT = 4
WAITS_LONG = timedelta(days=30)
# A proposal past this is not proven smallest, and still smaller than what is held.
MOST_STEPS = 2_000
_APPLICATION = AccessKind.APPLICATION
_UNUSED = frozenset({UsedState.NEVER, UsedState.LAPSED})


def by_weight(weight: int) -> Severity:
    return Severity.HIGH if weight >= HIGH_WEIGHT else Severity.MEDIUM if weight >= MEDIUM_WEIGHT else Severity.LOW


def held_rungs(client: ClientPicture) -> Iterator[tuple[ResourcePicture, Rung]]:
    for place in client.resources:
        for rung in place.rungs:
            if rung.granted is not None:
                yield place, rung


def subject_of(place: ResourcePicture, rung: Rung) -> str:
    return f"{place.catalogue.name}/{rung.permission}/{rung.kind}"


def _never_used(client: ClientPicture, policy: DirectoryPolicy, _now: datetime) -> Iterator[Finding]:
    for place, rung in held_rungs(client):
        if rung.used not in _UNUSED or rung.granted is None:
            continue
        for_people = rung.kind is AccessKind.DELEGATED
        # Whom it acted for was seen: then something of it is used. A consent for one person is that person's matter.
        if for_people and (place.people or rung.granted.person_id is not None):
            continue
        opened = place.catalogue.opened_by(rung.permission)
        weight = weigh(place.catalogue, opened)
        yield finding(
            "permission-never-used",
            client,
            subject_of(place, rung),
            min(by_weight(weight), Severity.MEDIUM) if for_people else by_weight(weight),
            f"{rung.permission}, granted {'for people ' if for_people else ''}on {day(rung.granted.granted_at)}, was "
            + ("never used" if rung.used is UsedState.NEVER else f"last used on {day(rung.last_used_at)}"),
            {
                "resource": place.catalogue.name,
                "granted": exact(rung.granted.granted_at),
                "last used": on(rung.last_used_at),
                "operations": str(len(opened)),
                "weight": str(weight),
                "policy": f"judged after {policy.observation_days} days; a use counts for {policy.use_counts_days}",
            },
            f"Ask the owner what {rung.permission} is for; take it away if nobody can say.",
            Act.WITHDRAW_ROLE if rung.granted.through else Act.END_CONSENT,
            subject_of(place, rung),
        )


def _implied(client: ClientPicture, _policy: DirectoryPolicy, _now: datetime) -> Iterator[Finding]:
    for place, rung in held_rungs(client):
        for bigger in place.rungs:
            contains = rung.permission in place.catalogue.closure(bigger.permission) - {bigger.permission}
            if bigger.granted is None or bigger.kind is not rung.kind or not contains:
                continue
            assert rung.granted is not None
            same_people = bigger.granted.person_id in (None, rung.granted.person_id)
            if same_people and bigger.granted.reach in (EVERYWHERE, rung.granted.reach) and not rung.granted.through:
                yield finding(
                    "permission-implied",
                    client,
                    subject_of(place, rung),
                    Severity.LOW,
                    f"{rung.permission} is contained in {bigger.permission}",
                    {
                        "resource": place.catalogue.name,
                        "granted": exact(rung.granted.granted_at),
                        "beside": bigger.permission,
                    },
                    f"End one: {bigger.permission} if what {rung.permission} opens is enough, else {rung.permission}.",
                    Act.END_CONSENT,
                    subject_of(place, rung),
                )
                break


def _larger_than_use(client: ClientPicture, policy: DirectoryPolicy, now: datetime) -> Iterator[Finding]:
    for place in client.resources:
        used = [
            rung
            for rung in place.rungs
            if rung.kind is _APPLICATION
            and rung.granted is not None
            and rung.used is UsedState.USED
            and now - rung.granted.granted_at >= policy.observation
        ]
        done = frozenset().union(*(rung.used_operations for rung in used))
        if not done:
            continue
        opened = place.catalogue.opened_by_all(rung.permission for rung in used)
        if opened == done:
            continue
        # What opens something new is not had by a mend: it takes an ask and a consent.
        proposal = smallest(place.catalogue, done, _APPLICATION, most_steps=MOST_STEPS, within=opened)
        before = weigh(place.catalogue, opened)
        after = weigh(place.catalogue, place.catalogue.opened_by_all(proposal.permissions))
        if proposal.unreachable or after >= before:
            continue
        held = ", ".join(rung.permission for rung in used)
        yield finding(
            "permission-larger-than-use",
            client,
            place.catalogue.name,
            by_weight(before - after),
            f"{', '.join(proposal.permissions)} would do instead of {held}",
            {
                "resource": place.catalogue.name,
                "granted": held,
                "used operations": ", ".join(sorted(done)),
                "weight": f"{before}, and {after} would do",
                "policy": f"judged after {policy.observation_days} days",
            },
            f"Ask for {', '.join(proposal.permissions)}, and end the consent to what is larger.",
            Act.REPLACE_PERMISSIONS,
            place.catalogue.name,
        )


def _controls(client: ClientPicture, _policy: DirectoryPolicy, _now: datetime) -> Iterator[Finding]:
    for place in client.resources:
        if place.catalogue.name != own_api.NAME:
            continue
        held = [rung for rung in place.rungs if rung.granted is not None and rung.kind is _APPLICATION]
        strong = {
            rung.permission: sorted(
                name
                for name in place.catalogue.opened_by(rung.permission)
                if place.catalogue.operations[name].effect is Effect.CONTROL
            )
            for rung in held
        }
        strong = {name: operations for name, operations in strong.items() if operations}
        if strong:
            everywhere = any(rung.granted is not None and rung.granted.reach == EVERYWHERE for rung in held)
            yield finding(
                "controls-registrations",
                client,
                "",
                Severity.HIGH if everywhere else Severity.MEDIUM,
                "Can give itself or others access",
                {name: ", ".join(operations[:6]) for name, operations in strong.items()},
                "Guard its credentials as a steward's; bound it to the clients it looks after, or leave it to people.",
                Act.NARROW_REACH,
                f"{own_api.NAME}/{min(strong)}/{_APPLICATION}",
            )


def _not_asked(client: ClientPicture, _policy: DirectoryPolicy, _now: datetime) -> Iterator[Finding]:
    for place, rung in held_rungs(client):
        if rung.asked is None and rung.granted is not None and not rung.granted.through:
            yield finding(
                "granted-not-asked",
                client,
                subject_of(place, rung),
                Severity.LOW,
                f"{rung.permission} is granted, and the registration does not ask for it",
                {"resource": place.catalogue.name, "granted": exact(rung.granted.granted_at)},
                "Ask for it, with the reason, if it is needed; else end the consent.",
                Act.ASK,
                subject_of(place, rung),
            )


def _waits(client: ClientPicture, _policy: DirectoryPolicy, now: datetime) -> Iterator[Finding]:
    for place in client.resources:
        for rung in place.rungs:
            if rung.asked is not None and rung.granted is None and now - rung.asked.asked_at >= WAITS_LONG:
                yield finding(
                    "asked-never-granted",
                    client,
                    subject_of(place, rung),
                    Severity.LOW,
                    f"{rung.permission} is asked for since {day(rung.asked.asked_at)}, and not granted",
                    {"resource": place.catalogue.name, "asked": exact(rung.asked.asked_at)},
                    "Drop the ask if the client does without; else have an approver decide.",
                    Act.DROP_ASK,
                    subject_of(place, rung),
                )


def _top_role(client: ClientPicture, _policy: DirectoryPolicy, _now: datetime) -> Iterator[Finding]:
    for place in client.resources:
        by_role: dict[str, set[str]] = {}
        for rung in place.rungs:
            for grant in rung.grants:
                if grant.through and grant.reach == EVERYWHERE:
                    by_role.setdefault(grant.through, set()).add(rung.permission)
        everything = place.catalogue.opened_by_all(place.catalogue.permissions) if by_role else frozenset()
        for role, permissions in sorted(by_role.items()):
            # Every operation that a client could be let into at all.
            if everything and place.catalogue.opened_by_all(permissions) >= everything:
                yield finding(
                    "top-role-on-client",
                    client,
                    f"{place.catalogue.name}/{role}",
                    Severity.HIGH,
                    f"Holds {role}, which opens everything at {place.catalogue.name}",
                    {"resource": place.catalogue.name, "operations": str(len(everything))},
                    "Assign a role of what it does, then withdraw this one.",
                    Act.WITHDRAW_ROLE,
                    f"{place.catalogue.name}/{role}",
                )


def _through_others(client: ClientPicture, _policy: DirectoryPolicy, _now: datetime) -> Iterator[Finding]:
    for other in client.others:
        yield finding(
            "controls-through-others",
            client,
            other.id,
            Severity.HIGH,
            f"Can take over {other.name}, which can give access",
            {
                "way": f"{client.name} → ({other.by}) → {other.name} → ({', '.join(other.controls[:4])})",
                "steps": "2",
            },
            f"Take {other.name} out of its reach, or let people do this instead.",
            Act.NARROW_REACH,
            f"{own_api.NAME}/{other.by}/{_APPLICATION}",
        )


def _weak_owner(client: ClientPicture, _policy: DirectoryPolicy, _now: datetime) -> Iterator[Finding]:
    weaker = [one for one in client.owners if one.live and one.full and one.beyond_weight >= HIGH_WEIGHT]
    if weaker and client.live:
        worst = max(one.beyond_weight for one in weaker)
        names = ", ".join(one.name for one in weaker)
        yield finding(
            "owner-weaker-than-client",
            client,
            "",
            Severity.HIGH if worst >= 3 * HIGH_WEIGHT else Severity.MEDIUM,
            f"{names} could do by it what they may not do themselves",
            {one.name: f"weight {one.beyond_weight}: {', '.join(one.beyond[:5])}" for one in weaker},
            "Let it be owned by somebody who may do as much, or leave them to see and ask only.",
            Act.NAME_OWNER,
        )


RULES = (
    Rule(
        "permission-never-used", Family.PRIVILEGE, "Permission never used",
        "What a client may do and never does is risk without benefit: whoever steals its secret may do it.",
        f"By the weight of what it opens: high from {HIGH_WEIGHT}, medium from {MEDIUM_WEIGHT}; medium at the most for "
        "what it does for people, whose own rights bound it.",
        "RFC 9700 section 2.3 (access token privilege restriction)", _never_used,
    ),
    Rule(
        "permission-implied", Family.PRIVILEGE, "Permission contained in another",
        "One of the two is not needed, and whoever ends the smaller believes that something was taken away.",
        "Always low.", "RFC 9700 section 2.3 (access token privilege restriction)", _implied,
    ),
    Rule(
        "permission-larger-than-use", Family.PRIVILEGE, "Permission larger than its use",
        "The part of it that is never used is risk without benefit, and a smaller one exists.",
        f"By the weight that would be saved: high from {HIGH_WEIGHT}, medium from {MEDIUM_WEIGHT}.",
        "RFC 9700 section 2.3 (access token privilege restriction)", _larger_than_use,
    ),
    Rule(
        "controls-registrations", Family.PRIVILEGE, "Client that can give access",
        "Whoever has its credential can give themselves whatever this directory gives.",
        "High over all clients; medium where it is bounded to some.",
        "RFC 9700 section 4.12; ISO/IEC 27002:2022 control 8.2 (privileged access rights)", _controls,
    ),
    Rule(
        "granted-not-asked", Family.PRIVILEGE, "Granted, and not asked for",
        "Nobody wrote down what it is for, so nobody can say when it may go.",
        "Always low.", "ISO/IEC 27002:2022 control 5.18 (access rights)", _not_asked,
    ),
    Rule(
        "asked-never-granted", Family.PRIVILEGE, "Asked for, and never granted",
        "The client does without it, or waits for somebody who forgot.",
        f"Always low, after {WAITS_LONG.days} days.", "ISO/IEC 27002:2022 control 5.18 (access rights)", _waits,
    ),
    Rule(
        "top-role-on-client", Family.PRIVILEGE, "Top role on a client",
        "A role that opens everything belongs to people who answer for it, if to anyone.",
        "Always high.", "ISO/IEC 27002:2022 control 8.2 (privileged access rights)", _top_role,
    ),
    Rule(
        "controls-through-others", Family.PRIVILEGE, "Client that can give access through another",
        "It may issue a credential of another client, or change who owns it, and that one can give access.",
        "Always high.", "NIST SP 800-53 rev. 5 control AC-6 (least privilege)", _through_others,
    ),
    Rule(
        "owner-weaker-than-client", Family.PRIVILEGE, "Owner weaker than what they own",
        "Who owns a client can issue a credential of it to themselves, and do by it what their own roles do not allow.",
        f"By the weight of what is beyond the owner: high from {3 * HIGH_WEIGHT}, medium from {HIGH_WEIGHT}.",
        "NIST SP 800-53 rev. 5 control AC-6 (least privilege)", _weak_owner,
    ),
)  # fmt: skip
