"""Privilege beyond the need."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from datetime import datetime, timedelta

from jamb.core import own_api
from jamb.core.access import HeldGrant
from jamb.core.audit.findings import Family, Finding, RemedyKind, Rule, Severity, day, exact, finding, on
from jamb.core.audit.picture import ClientPicture, ResourcePicture
from jamb.core.directory.policy import DirectoryPolicy
from jamb.core.directory.roles import holds_everything
from jamb.core.ladder import Rung, UsedState
from jamb.core.permissions import AccessKind, Effect, smallest, weigh
from jamb.core.reach import ReachKind

# Weight from which an unused permission is worse: one write to restricted data, or control of internal data.
HIGH_WEIGHT = 24
MEDIUM_WEIGHT = 4
WAITS_LONG = timedelta(days=30)
# A proposal past this is not proven smallest, and still smaller than what is held.
MOST_STEPS = 2_000
_APPLICATION = AccessKind.APPLICATION


def by_weight(weight: int) -> Severity:
    return Severity.HIGH if weight >= HIGH_WEIGHT else Severity.MEDIUM if weight >= MEDIUM_WEIGHT else Severity.LOW


def held_rungs(client: ClientPicture) -> Iterator[tuple[ResourcePicture, Rung]]:
    for place in client.resources:
        for rung in place.rungs:
            if rung.granted is not None:
                yield place, rung


def subject_of(place: ResourcePicture, rung: Rung) -> str:
    return f"{place.catalogue.name}/{rung.permission}/{rung.kind}"


def _never_used(client: ClientPicture, policy: DirectoryPolicy, now: datetime) -> Iterator[Finding]:
    for place, rung in held_rungs(client):
        for_people = rung.kind is AccessKind.DELEGATED
        # A consent for one person is that person's matter.
        since = min((one.granted_at for one in rung.grants if one.person_id is None), default=None)
        if rung.used_operations or since is None or not place.watched(since, now, policy.observation):
            continue
        by_role = all(one.through for one in rung.grants)
        opened = place.catalogue.opened_by(rung.permission)
        weight = weigh(place.catalogue, opened)
        yield finding(
            "permission-never-used",
            client,
            subject_of(place, rung),
            min(by_weight(weight), Severity.MEDIUM) if for_people else by_weight(weight),
            f"{rung.permission}, granted {'for people ' if for_people else ''}on {day(since)}, was "
            + ("never used" if rung.last_used_at is None else f"last used on {day(rung.last_used_at)}"),
            {
                "resource": place.catalogue.name,
                "granted": exact(since),
                "last used": on(rung.last_used_at),
                "operations": str(len(opened)),
                "weight": str(weight),
                "policy": f"judged after {policy.observation_days} days; a use counts for {policy.use_counts_days}",
            },
            f"Ask the owner what {rung.permission} is for; take it away if nobody can say.",
            RemedyKind.WITHDRAW_ROLE if by_role else RemedyKind.END_CONSENT,
            subject_of(place, rung),
        )


def _implied(client: ClientPicture, _policy: DirectoryPolicy, _now: datetime) -> Iterator[Finding]:
    for place, rung in held_rungs(client):
        consents = [one for one in rung.grants if not one.through]
        if not consents:
            continue
        for bigger in place.rungs:
            if bigger.kind is not rung.kind or bigger.permission == rung.permission:
                continue
            if rung.permission not in place.catalogue.closure(bigger.permission):
                continue
            if all(_held_by(place, one, bigger.grants) for one in consents):
                yield finding(
                    "permission-implied",
                    client,
                    subject_of(place, rung),
                    Severity.LOW,
                    f"{rung.permission} is contained in {bigger.permission}",
                    {
                        "resource": place.catalogue.name,
                        "granted": exact(consents[0].granted_at),
                        "beside": bigger.permission,
                    },
                    f"End one: {bigger.permission} if what {rung.permission} opens is enough, else {rung.permission}.",
                    RemedyKind.END_CONSENT,
                    subject_of(place, rung),
                )
                break


def _held_by(place: ResourcePicture, one: HeldGrant, others: Iterable[HeldGrant]) -> bool:
    """Tell whether others hold all objects that a grant does, for whom it does, for as long."""
    fitting = [other for other in others if other.person_id in (None, one.person_id) and other.lasts(one.expires_at)]
    return bool(fitting) and place.reaches([other.reach for other in fitting], [one.reach])


def _larger_than_use(client: ClientPicture, policy: DirectoryPolicy, now: datetime) -> Iterator[Finding]:
    for place, used, names, before, after in _larger(client, policy, now, _APPLICATION):
        yield finding(
            "permission-larger-than-use",
            client,
            place.catalogue.name,
            by_weight(before - after),
            f"{', '.join(names)} would do instead of {', '.join(rung.permission for rung in used)}",
            _larger_evidence(place, used, before, after, policy),
            f"Ask for {', '.join(names)}, and end the consent to what is larger.",
            RemedyKind.REPLACE_PERMISSIONS,
            place.catalogue.name,
        )


def _larger_for_people(client: ClientPicture, policy: DirectoryPolicy, now: datetime) -> Iterator[Finding]:
    for place, used, names, before, after in _larger(client, policy, now, AccessKind.DELEGATED):
        yield finding(
            "larger-than-use-for-people",
            client,
            place.catalogue.name,
            min(by_weight(before - after), Severity.MEDIUM),
            f"For people {', '.join(names)} would do instead of {', '.join(rung.permission for rung in used)}",
            _larger_evidence(place, used, before, after, policy),
            f"Ask for {', '.join(names)} for people, have it consented to, and end the consent to what is larger.",
        )


def _larger(
    client: ClientPicture, policy: DirectoryPolicy, now: datetime, kind: AccessKind
) -> Iterator[tuple[ResourcePicture, list[Rung], tuple[str, ...], int, int]]:
    """Yield each resource with what is used there, the smaller permissions that would do, and the weight of both."""
    for place in client.resources:
        used = [
            rung
            for rung in place.rungs
            if rung.kind is kind
            and rung.held_since is not None
            and rung.used is UsedState.USED
            and place.watched(rung.held_since, now, policy.observation)
        ]
        done = frozenset().union(*(rung.used_operations for rung in used))
        if not done:
            continue
        opened = place.catalogue.opened_by_all(rung.permission for rung in used)
        if opened == done:
            continue
        # What opens something new is not had by a remedy: it takes an ask and a consent.
        proposal = smallest(place.catalogue, done, kind, most_steps=MOST_STEPS, within=opened)
        before = weigh(place.catalogue, opened)
        after = weigh(place.catalogue, place.catalogue.opened_by_all(proposal.permissions))
        if not proposal.unreachable and after < before:
            yield place, used, proposal.permissions, before, after


def _larger_evidence(
    place: ResourcePicture, used: Iterable[Rung], before: int, after: int, policy: DirectoryPolicy
) -> dict[str, str]:
    done = frozenset().union(*(rung.used_operations for rung in used))
    return {
        "resource": place.catalogue.name,
        "granted": ", ".join(rung.permission for rung in used),
        "used operations": ", ".join(sorted(done)),
        "weight": f"{before}, and {after} would do",
        "policy": f"judged after {policy.observation_days} days",
    }


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
            bounded = all(
                grant.reach.kind is ReachKind.ONLY
                for rung in held
                if rung.permission in strong
                for grant in rung.grants
            )
            yield finding(
                "controls-registrations",
                client,
                "",
                Severity.MEDIUM if bounded else Severity.HIGH,
                "Can give itself or others access",
                {name: ", ".join(operations[:6]) for name, operations in strong.items()},
                "Guard its credentials as a steward's; bound it to the clients it looks after, or leave it to people.",
                RemedyKind.NARROW_REACH,
                f"{own_api.NAME}/{min(strong)}/{_APPLICATION}",
            )


def _not_asked(client: ClientPicture, _policy: DirectoryPolicy, _now: datetime) -> Iterator[Finding]:
    for place, rung in held_rungs(client):
        consents = [one.granted_at for one in rung.grants if not one.through]
        if rung.asked is None and consents:
            yield finding(
                "granted-not-asked",
                client,
                subject_of(place, rung),
                Severity.LOW,
                f"{rung.permission} is granted, and the registration does not ask for it",
                {"resource": place.catalogue.name, "granted": exact(min(consents))},
                "Ask for it, with the reason, if it is needed; else end the consent.",
                RemedyKind.ASK,
                subject_of(place, rung),
            )


def _waits(client: ClientPicture, _policy: DirectoryPolicy, now: datetime) -> Iterator[Finding]:
    for place in client.resources:
        for rung in place.rungs:
            if rung.asked is None or rung.granted is not None:
                continue
            since = max(rung.asked.asked_at, rung.ended_at or rung.asked.asked_at)
            bigger = [
                one.permission
                for one in place.rungs
                if one.granted is not None
                and one.kind is rung.kind
                and rung.permission in place.catalogue.closure(one.permission)
            ]
            if now - since >= WAITS_LONG and not bigger:
                yield finding(
                    "asked-never-granted",
                    client,
                    subject_of(place, rung),
                    Severity.LOW,
                    f"{rung.permission} is asked for since {day(rung.asked.asked_at)}, and not granted"
                    + (f" any more since {day(rung.ended_at)}" if since > rung.asked.asked_at else ""),
                    {"resource": place.catalogue.name, "asked": exact(rung.asked.asked_at)},
                    "Drop the ask if the client does without; else have an approver decide.",
                    RemedyKind.DROP_ASK,
                    subject_of(place, rung),
                )


def _top_role(client: ClientPicture, _policy: DirectoryPolicy, _now: datetime) -> Iterator[Finding]:
    for place in client.resources:
        by_role: dict[str, set[str]] = {}
        for rung in place.rungs:
            for grant in rung.grants:
                if grant.through and grant.reach.kind is not ReachKind.ONLY:
                    by_role.setdefault(grant.through, set()).add(rung.permission)
        for role, permissions in sorted(by_role.items()):
            if holds_everything(place.catalogue, sorted(permissions)):
                yield finding(
                    "top-role-on-client",
                    client,
                    f"{place.catalogue.name}/{role}",
                    Severity.HIGH,
                    f"Holds {role}, which opens everything at {place.catalogue.name}",
                    {
                        "resource": place.catalogue.name,
                        "operations": str(len(place.catalogue.opened_by_all(permissions))),
                    },
                    "Assign a role of what it does, then withdraw this one.",
                    RemedyKind.WITHDRAW_ROLE,
                    f"{place.catalogue.name}/{role}",
                )


def _through_others(client: ClientPicture, _policy: DirectoryPolicy, _now: datetime) -> Iterator[Finding]:
    for other in client.others:
        yield finding(
            "controls-through-others",
            client,
            other.id,
            Severity.HIGH,
            f"Can take over {other.name}, which can give access"
            if other.id
            else f"Can take over {other.name}, and some of them can give access",
            {
                "way": f"{client.name} → ({other.by}) → {other.name} → ({', '.join(other.controls[:4])})",
                "steps": "2",
                **({"for example": ", ".join(other.examples)} if other.examples else {}),
            },
            f"Take {other.name} out of its reach, or let people do this instead."
            if other.id
            else "Bound it to the clients it looks after, or let people do this instead.",
            RemedyKind.NARROW_REACH,
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
            RemedyKind.NAME_OWNER,
        )


RULES = (
    Rule(
        "permission-never-used",
        Family.PRIVILEGE,
        "Permission never used",
        why="What a client may do and never does is risk without benefit: whoever steals its secret may do it.",
        when=(
            "A permission is held, by a consent for everyone or by a role the oldest of which is watched for at least "
            "`observation_days`, and no use of it counts: it was never used, or not for `use_counts_days`. "
            "Consents for one person are passed over."
        ),
        how_bad=(
            f"By the weight of what it opens: high from {HIGH_WEIGHT}, medium from {MEDIUM_WEIGHT}; medium at the most "
            "for what it does for people, whose own rights bound it."
        ),
        reference="RFC 9700 section 2.3 (access token privilege restriction)",
        find=_never_used,
        found=(
            "never used, light",
            "never used, heavier",
            "never used, heavy",
            "for people, and nobody used it",
            "for people, and another permission is used there",
            "used, but not for as long as a use counts",
            "held by a role for long, and consented to lately",
        ),
        passed=(
            "too early to say",
            "used just within that time",
            "for people, and used",
            "for people, too early to tell",
            "for one person, who does not use it",
        ),
    ),
    Rule(
        "permission-implied",
        Family.PRIVILEGE,
        "Permission contained in another",
        why="One of the two is not needed, and whoever ends the smaller believes that something was taken away.",
        when=(
            "A permission is consented to, and another permission implies it that is held, by a consent or a role, of "
            "the same kind: for all objects for which the consents to the smaller one count, for the same people or "
            "everyone, and for as long."
        ),
        how_bad="Always low.",
        reference="RFC 9700 section 2.3 (access token privilege restriction)",
        find=_implied,
        found=(
            "contained in another",
            "contained in a role, for all objects",
        ),
        passed=(
            "contained in another, which counts in fewer places",
            "contained in another, which ends sooner",
        ),
    ),
    Rule(
        "permission-larger-than-use",
        Family.PRIVILEGE,
        "Permission larger than its use",
        why="The part of it that is never used is risk without benefit, and a smaller one exists.",
        when=(
            "Of the permissions that a client holds as itself, at one resource, those count that are watched for "
            "at least `observation_days` and that were used. Another set of permissions opens all that was used, "
            "nothing that these do not open, and weighs less than these together."
        ),
        how_bad=f"By the weight that would be saved: high from {HIGH_WEIGHT}, medium from {MEDIUM_WEIGHT}.",
        reference="RFC 9700 section 2.3 (access token privilege restriction)",
        find=_larger_than_use,
        found=(
            "larger than its use",
            "a little larger than its use",
        ),
        passed=("as large as its use",),
    ),
    Rule(
        "larger-than-use-for-people",
        Family.PRIVILEGE,
        "Permission for people larger than its use",
        why=(
            "Whoever takes the client over may do for people what none of them ever did by it, and a smaller one "
            "exists."
        ),
        when=(
            "As for “Permission larger than its use”, of the permissions that a client holds for people, whoever they "
            "are, and of its calls for people."
        ),
        how_bad=f"By the weight that would be saved: medium from {MEDIUM_WEIGHT}, as people's own rights bound it.",
        reference="RFC 9700 section 2.3 (access token privilege restriction)",
        find=_larger_for_people,
        found=("for people, larger than its use",),
        passed=("for people, as large as its use",),
    ),
    Rule(
        "controls-registrations",
        Family.PRIVILEGE,
        "Client that can give access",
        why="Whoever has its credential can give themselves whatever this directory gives.",
        when="The client may, as itself, do an operation of Jamb's own API whose effect is control.",
        how_bad="Medium where all by which it may is bounded to named clients; high otherwise.",
        reference="RFC 9700 section 4.12; ISO/IEC 27002:2022 control 8.2 (privileged access rights)",
        find=_controls,
        found=(
            "can give itself access",
            "looks after some",
            "can give access to all but some",
            "bounded control beside reading everything",
        ),
        passed=("reads registrations",),
    ),
    Rule(
        "granted-not-asked",
        Family.PRIVILEGE,
        "Granted, and not asked for",
        why="Nobody wrote down what it is for, so nobody can say when it may go.",
        when=(
            "A permission is consented to, for whomever, and the registration does not ask for it. What is held by a "
            "role alone is passed over."
        ),
        how_bad="Always low.",
        reference="ISO/IEC 27002:2022 control 5.18 (access rights)",
        find=_not_asked,
        found=("granted and not asked",),
        passed=("held by a role and not asked",),
    ),
    Rule(
        "asked-never-granted",
        Family.PRIVILEGE,
        "Asked for, and never granted",
        why="The client does without it, or waits for somebody who forgot.",
        when=(
            "A permission is asked for, not held, and implied by none that is held of the same kind, for at least "
            f"{WAITS_LONG.days} days: counted from the ask or, where it was held later, from the end of that."
        ),
        how_bad=f"Always low, after {WAITS_LONG.days} days.",
        reference="ISO/IEC 27002:2022 control 5.18 (access rights)",
        find=_waits,
        found=(
            "asked for a month",
            "asked, held, and not for a month",
        ),
        passed=(
            "asked lately",
            "asked, and held until lately",
            "asked, and contained in what is held",
        ),
    ),
    Rule(
        "top-role-on-client",
        Family.PRIVILEGE,
        "Top role on a client",
        why="A role that opens everything belongs to people who answer for it, if to anyone.",
        when=(
            "The client holds a role, everywhere or everywhere but in some collections, that opens every operation "
            "that permissions of that resource open which both people and clients can be given (every operation, "
            "where there are none)."
        ),
        how_bad="Always high.",
        reference="ISO/IEC 27002:2022 control 8.2 (privileged access rights)",
        find=_top_role,
        found=(
            "a top role",
            "a top role all but somewhere",
        ),
        passed=("a top role in one collection",),
    ),
    Rule(
        "controls-through-others",
        Family.PRIVILEGE,
        "Client that can give access through another",
        why="It may issue a credential of another client, or change who owns it, and that one can give access.",
        when=(
            "The client may, as itself, issue, add, make, rotate or hand over a credential of another client, or "
            "change its owners; the other is live and may itself, at Jamb's own API, do an operation whose effect is "
            "control. One finding for each such client; where it may do so everywhere, or everywhere but to some, one "
            "finding for all of those together."
        ),
        how_bad="Always high.",
        reference="NIST SP 800-53 rev. 5 control AC-6 (least privilege)",
        find=_through_others,
        found=(
            "takes over one that gives access",
            "takes over every client",
        ),
    ),
    Rule(
        "owner-weaker-than-client",
        Family.PRIVILEGE,
        "Owner weaker than what they own",
        why=(
            "Who owns a client can issue a credential of it to themselves, and do by it what their own roles do not "
            "allow."
        ),
        when=(
            "The client is live, and an owner who may sign in and answers for everything may not do, by their own "
            "roles and those of their groups, what it may do as itself: operations on personal or restricted data, or "
            "whose effect is control, each counted whole where they may not do it for every object for which the "
            f"client may. Weighed together that is {HIGH_WEIGHT} or more."
        ),
        how_bad=f"By the weight of what is beyond the owner: high from {3 * HIGH_WEIGHT}, medium from {HIGH_WEIGHT}.",
        reference="NIST SP 800-53 rev. 5 control AC-6 (least privilege)",
        find=_weak_owner,
        found=(
            "an owner who may do less",
            "an owner who may do much less",
        ),
        passed=("an owner who may do a little less",),
    ),
)
