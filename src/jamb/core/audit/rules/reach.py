"""Grants that count in more places, or for more people, than the need."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime

from jamb.core import own_api
from jamb.core.access.compare import possible
from jamb.core.audit.findings import Family, Finding, RemedyKind, Rule, Severity, day, exact, finding
from jamb.core.audit.picture import ClientPicture
from jamb.core.audit.rightsizing import smaller_grant
from jamb.core.audit.rules.privilege import HIGH_WEIGHT, MEDIUM_WEIGHT, MOST_STEPS, by_weight, held_rungs, subject_of
from jamb.core.directory.policy import DirectoryPolicy
from jamb.core.permissions import AccessKind, DataClass, Effect, weigh, weigh_operation
from jamb.core.reach import EVERYWHERE, ReachKind, coverage

_SENSITIVE = frozenset({DataClass.PERSONAL, DataClass.RESTRICTED})
# Consent for everyone is more than is needed while so few use it, of so many times as many people.
FEW_PEOPLE = 3
MANY_TIMES = 3


def _unbounded(client: ClientPicture, _policy: DirectoryPolicy, _now: datetime) -> Iterator[Finding]:
    for place, rung in held_rungs(client):
        if not place.bounds_objects or rung.kind is not AccessKind.APPLICATION or rung.granted is None:
            continue
        operations = [place.catalogue.operations[name] for name in place.catalogue.opened_by(rung.permission)]
        concerned = f"{{{place.catalogue.object_name}}}"
        touching = [one for one in operations if one.data_class in _SENSITIVE and concerned in one.path]
        # All but some is everybody, as far as anybody looks.
        wide = [one.reach for one in rung.grants if one.reach.kind is not ReachKind.ONLY]
        if not wide or not touching:
            continue
        worse = any(one.data_class is DataClass.RESTRICTED or one.effect is not Effect.READ for one in touching)
        yield finding(
            "reach-unbounded",
            client,
            subject_of(place, rung),
            Severity.HIGH if worse else Severity.MEDIUM,
            f"{rung.permission} reaches every {place.catalogue.object_name} of {place.catalogue.name}"
            + ("" if EVERYWHERE in wide else f", {wide[0].words}"),
            {
                "resource": place.catalogue.name,
                "operations": ", ".join(sorted(one.name for one in touching)),
                "data": ", ".join(sorted({one.data_class.value for one in touching})),
            },
            "Bound it to the collections that its work is about.",
            RemedyKind.NARROW_REACH,
            subject_of(place, rung),
        )


def _reach_larger(client: ClientPicture, policy: DirectoryPolicy, now: datetime) -> Iterator[Finding]:
    for place in client.resources:
        proposed = smaller_grant(place, policy, now, MOST_STEPS) if place.objects else None
        if proposed is None or not proposed.objects or not proposed.permissions:
            continue
        concerned = [
            weigh_operation(place.catalogue.operations[name])
            for name in possible(place.catalogue, proposed.held, place.tree)
            if place.catalogue.concerns_object(name)
        ]
        before = coverage(place.tree, [one.reach for one in proposed.held])
        after = coverage(place.tree, [proposed.reach])
        if not before.objects or 2 * len(after.objects) > len(before.objects):
            continue
        saved = sum(concerned) * (before.share(place.tree) - after.share(place.tree))
        reaches = "; ".join(sorted({one.reach.words for one in proposed.held}))
        yield finding(
            "reach-larger-than-use",
            client,
            place.catalogue.name,
            by_weight(round(saved)),
            f"Reaches {reaches} at {place.catalogue.name}, and {proposed.reach.words} would do",
            {
                "resource": place.catalogue.name,
                "reached": f"{len(before.objects)} of {len(place.tree.everything)} known objects",
                "touched": f"{len(proposed.objects)}: {', '.join(sorted(proposed.objects)[:6])}",
                "would do": f"{proposed.reach.words}, {len(after.objects)} objects",
                "policy": f"judged after {policy.observation_days} days; a use counts for {policy.use_counts_days}",
            },
            f"Bound it: {proposed.reach.words}. Start a dry run first if in doubt.",
            RemedyKind.REPLACE_PERMISSIONS,
            place.catalogue.name,
        )


def _for_everyone(client: ClientPicture, policy: DirectoryPolicy, now: datetime) -> Iterator[Finding]:
    for place in client.resources:
        for rung in place.rungs:
            people = place.acted_for(rung.permission)
            if not people or len(people) > FEW_PEOPLE:
                continue
            since = min((one.granted_at for one in rung.grants if one.person_id is None), default=now)
            if rung.kind is not AccessKind.DELEGATED or not place.watched(since, now, policy.observation):
                continue
            if client.population < MANY_TIMES * len(people):
                continue
            weight = weigh(place.catalogue, place.catalogue.opened_by(rung.permission))
            names = ", ".join(sorted(people.values()))
            yield finding(
                "consent-for-everyone",
                client,
                subject_of(place, rung),
                Severity.MEDIUM if weight >= HIGH_WEIGHT else Severity.LOW,
                f"{rung.permission} is consented to for everyone, and few use it",
                {
                    "resource": place.catalogue.name,
                    "used for": names,
                    "people here": str(client.population),
                    "policy": f"judged after {policy.observation_days} days; a use counts for {policy.use_counts_days}",
                },
                f"Consent for {names}, and end the consent for everyone.",
                RemedyKind.NARROW_PEOPLE,
                subject_of(place, rung),
            )


def _person_unused(client: ClientPicture, policy: DirectoryPolicy, now: datetime) -> Iterator[Finding]:
    for place in client.resources:
        for rung in place.rungs:
            people = place.acted_for(rung.permission)
            if rung.used_operations and not people:
                # It was used, and nobody says for whom.
                continue
            since: dict[str, datetime] = {}
            for one in rung.grants:
                if one.person_id is not None:
                    since[one.person_id] = min(one.granted_at, since.get(one.person_id, one.granted_at))
            for key, at in sorted(since.items()):
                if place.watched(at, now, policy.observation) and key not in people:
                    name = client.names.get(key, key)
                    yield finding(
                        "consent-for-person-unused",
                        client,
                        f"{subject_of(place, rung)}/{key}",
                        Severity.LOW,
                        f"{rung.permission} is consented to for {name} since {day(at)}, and not used for them",
                        {
                            "resource": place.catalogue.name,
                            "consented": exact(at),
                            "person": name,
                            "policy": f"a use counts for {policy.use_counts_days} days",
                        },
                        "Ask the person whether they still use it; end their consent if not.",
                    )


def _left_behind(client: ClientPicture, _policy: DirectoryPolicy, _now: datetime) -> Iterator[Finding]:
    for place in client.resources:
        for rung in place.rungs:
            # Of several the gravest is told: all but what is gone is everything.
            concerned = [one for one in rung.grants if one.reach.collections & place.gone]
            grant = min(
                concerned, key=lambda one: (one.reach.kind is not ReachKind.ALL_BUT, one.reach.words), default=None
            )
            if grant is None:
                continue
            gone = sorted(frozenset().union(*(one.reach.collections for one in concerned)) & place.gone)
            every = all(one.reach.collections <= place.gone for one in concerned)
            what = "clients" if place.catalogue.name == own_api.NAME else "collections"
            yield finding(
                "left-behind",
                client,
                subject_of(place, rung),
                Severity.MEDIUM if grant.reach.kind is ReachKind.ALL_BUT else Severity.LOW,
                f"{rung.permission} counts {grant.reach.words}: gone is {', '.join(gone)}",
                {"resource": place.catalogue.name, f"{what} gone": ", ".join(gone), "reach": grant.reach.words},
                "End it: it reaches nothing any more."
                if every and grant.reach.kind is ReachKind.ONLY
                else "Bound it anew, without what is gone.",
                RemedyKind.WITHDRAW_ROLE
                if grant.through
                else RemedyKind.END_CONSENT
                if every
                else RemedyKind.NARROW_REACH,
                subject_of(place, rung),
            )


RULES = (
    Rule(
        "reach-unbounded",
        Family.PRIVILEGE,
        "Sensitive data without bounds",
        why="The client reaches every person's data though collections exist to which it could be bounded.",
        when=(
            "The client holds a permission as itself, everywhere or everywhere but in some collections, that opens an "
            "operation on personal or restricted data of one named object, and the resource has collections."
        ),
        how_bad="High for restricted data or more than reading; medium for reading personal data.",
        reference="RFC 9396 section 2 (authorization details)",
        find=_unbounded,
        found=(
            "reads everybody's mail",
            "sends as everybody",
            "reads everybody's mail but the board's",
            "reads everybody's mail by a role, and some by consent",
        ),
        passed=("sends as the desk",),
    ),
    Rule(
        "reach-larger-than-use",
        Family.PRIVILEGE,
        "Reach larger than its use",
        why="It touches few objects and could touch many; the collections that hold what it touches exist.",
        when=(
            "Of the consents as itself at one resource those are looked at that are watched for at least "
            "`observation_days`; "
            "what was used of them is needed, but for what a newer consent or a role opens everywhere and for as "
            "long. Each needed operation on an object is reported with the objects that it touched while that counts, "
            "and all of these lie in collections. The collections that together hold them, lie wholly within what is "
            "reached now, and hold the fewest other objects (of equals, the fewest collections), hold at most half as "
            "many objects as are reached now; and the lightest permissions for what is needed, bounded to these, open "
            "nothing that is not open now, and weigh less, each operation on objects counted by the share of the "
            "known objects."
        ),
        how_bad=(
            "By the weight of the operations on objects that are open now, times the share of the known objects that "
            f"would be saved: high from {HIGH_WEIGHT}, medium from {MEDIUM_WEIGHT}."
        ),
        reference="RFC 9396 section 2 (authorization details)",
        find=_reach_larger,
        found=("touches one desk of all",),
        passed=(
            "touches what lies in no collection",
            "touches all it reaches",
        ),
    ),
    Rule(
        "consent-for-everyone",
        Family.PRIVILEGE,
        "Consent for everyone where few use it",
        why="Whoever takes the client over may act for everyone of the directory; it needs to for a few.",
        when=(
            "A permission is consented to for everyone and watched for at least `observation_days`; the client acted "
            f"at the resource for one to {FEW_PEOPLE} people within `use_counts_days`; and at least {MANY_TIMES} times "
            "as many people may sign in to the directory."
        ),
        how_bad=f"Medium from a weight of {HIGH_WEIGHT}; low otherwise.",
        reference="RFC 9700 section 2.3 (access token privilege restriction)",
        find=_for_everyone,
        found=(
            "acts for one of many",
            "acts for one of many, bounded to another lately",
        ),
        passed=(
            "acts for four",
            "acts for one, nobody else is here",
        ),
    ),
    Rule(
        "consent-for-person-unused",
        Family.PRIVILEGE,
        "Consent for a person who never uses it",
        why="Whoever takes the client over may act for that person, who has nothing of it.",
        when=(
            "A permission is consented to for one person and watched for at least `observation_days`, and within "
            "`use_counts_days` no API reported that the client did, for that person, anything that it opens. Where "
            "calls of it were reported and for nobody, it is passed over."
        ),
        how_bad="Always low.",
        reference="RFC 9700 section 2.3 (access token privilege restriction)",
        find=_person_unused,
        found=("for one person, who does not use it", "for one person, and another uses it"),
        passed=("for one person, who uses it", "for one person, lately", "for one person, and nobody says who uses it"),
    ),
    Rule(
        "left-behind",
        Family.PRIVILEGE,
        "Reach over what is gone",
        why="Nobody can say what it was for, and if the name comes back it counts again.",
        when=(
            "A permission is held with a reach that names a collection that the resource does not have or, at Jamb's "
            "own API, a client that was removed."
        ),
        how_bad="Medium where it is held, with such a reach, everywhere but in some; low otherwise.",
        reference="ISO/IEC 27002:2022 control 5.18 (access rights)",
        find=_left_behind,
        found=(
            "reaches a collection that is gone",
            "reaches all but what is gone",
            "reaches what is gone twice",
        ),
    ),
)
