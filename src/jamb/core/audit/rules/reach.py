"""Grants that count in more places, or for more people, than the need."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime

from jamb.core import own_api
from jamb.core.audit.findings import Act, Family, Finding, Rule, Severity, finding
from jamb.core.audit.narrowing import narrower
from jamb.core.audit.picture import ClientPicture
from jamb.core.audit.rules.privilege import HIGH_WEIGHT, MEDIUM_WEIGHT, MOST_STEPS, by_weight, held_rungs, subject_of
from jamb.core.permissions import AccessKind, DataClass, Effect, weigh, weigh_operation
from jamb.core.policy import DirectoryPolicy
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
        if rung.granted.reach != EVERYWHERE or not touching:
            continue
        worse = any(one.data_class is DataClass.RESTRICTED or one.effect is not Effect.READ for one in touching)
        yield finding(
            "reach-unbounded",
            client,
            subject_of(place, rung),
            Severity.HIGH if worse else Severity.MEDIUM,
            f"{rung.permission} reaches every {place.catalogue.object_name} of {place.catalogue.name}",
            {
                "resource": place.catalogue.name,
                "operations": ", ".join(sorted(one.name for one in touching)),
                "data": ", ".join(sorted({one.data_class.value for one in touching})),
            },
            "Bound it to the collections that its work is about.",
            Act.NARROW_REACH,
            subject_of(place, rung),
        )


def _reach_larger(client: ClientPicture, policy: DirectoryPolicy, now: datetime) -> Iterator[Finding]:
    for place in client.resources:
        proposed = narrower(place, policy, now, MOST_STEPS) if place.objects else None
        if proposed is None or not proposed.objects or not proposed.permissions:
            continue
        concerned = [
            weigh_operation(place.catalogue.operations[name])
            for name in place.catalogue.opened_by_all(one.permission for one in proposed.held)
            if place.catalogue.concerns_object(name)
        ]
        before = coverage(place.tree, [one.reach for one in proposed.held])
        after = coverage(place.tree, [proposed.reach])
        if 2 * len(after.objects) > len(before.objects):
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
            f"Bound it: {proposed.reach.words}. Try that out dry first if in doubt.",
            Act.REPLACE_PERMISSIONS,
            place.catalogue.name,
        )


def _for_everyone(client: ClientPicture, policy: DirectoryPolicy, now: datetime) -> Iterator[Finding]:
    for place in client.resources:
        if not place.people or len(place.people) > FEW_PEOPLE:
            continue
        for rung in place.rungs:
            grant = next((one for one in rung.grants if one.person_id is None), None)
            if rung.kind is not AccessKind.DELEGATED or grant is None or now - grant.granted_at < policy.observation:
                continue
            if client.population < MANY_TIMES * len(place.people):
                continue
            weight = weigh(place.catalogue, place.catalogue.opened_by(rung.permission))
            yield finding(
                "consent-for-everyone",
                client,
                subject_of(place, rung),
                Severity.MEDIUM if weight >= HIGH_WEIGHT else Severity.LOW,
                f"{rung.permission} is consented to for everyone, and few use it",
                {
                    "resource": place.catalogue.name,
                    "used for": ", ".join(place.people),
                    "people here": str(client.population),
                    "policy": f"judged after {policy.observation_days} days; a use counts for {policy.use_counts_days}",
                },
                f"Consent for {', '.join(place.people)}, and end the consent for everyone.",
                Act.NARROW_PEOPLE,
                subject_of(place, rung),
            )


def _left_behind(client: ClientPicture, _policy: DirectoryPolicy, _now: datetime) -> Iterator[Finding]:
    for place in client.resources:
        for rung in place.rungs:
            for grant in rung.grants:
                gone = sorted(grant.reach.collections & place.gone)
                if not gone:
                    continue
                every = len(gone) == len(grant.reach.collections)
                what = "clients" if place.catalogue.name == own_api.NAME else "collections"
                yield finding(
                    "left-behind",
                    client,
                    subject_of(place, rung),
                    Severity.MEDIUM if grant.reach.kind is ReachKind.ALL_BUT else Severity.LOW,
                    f"{rung.permission} counts {grant.reach.words}: gone is {', '.join(gone)}",
                    {"resource": place.catalogue.name, f"{what} gone": ", ".join(gone), "reach": grant.reach.words},
                    "End it: it reaches nothing any more." if every and grant.reach.kind is ReachKind.ONLY
                    else "Bound it anew, without what is gone.",
                    Act.WITHDRAW_ROLE if grant.through else Act.END_CONSENT if every else Act.NARROW_REACH,
                    subject_of(place, rung),
                )  # fmt: skip
                break


RULES = (
    Rule(
        "reach-unbounded", Family.PRIVILEGE, "Sensitive data without bounds",
        "The client reaches every person's data though collections exist to which it could be bounded.",
        "High for restricted data or more than reading; medium for reading personal data.",
        "RFC 9396 section 2 (authorization details)", _unbounded,
    ),
    Rule(
        "reach-larger-than-use", Family.PRIVILEGE, "Reach larger than its use",
        "It touches few objects and could touch many; the collections that hold what it touches exist.",
        f"By the weight that would be saved: high from {HIGH_WEIGHT}, medium from {MEDIUM_WEIGHT}.",
        "RFC 9396 section 2 (authorization details)", _reach_larger,
    ),
    Rule(
        "consent-for-everyone", Family.PRIVILEGE, "Consent for everyone where few use it",
        "Whoever takes the client over may act for everyone of the directory; it needs to for a few.",
        f"Medium from a weight of {HIGH_WEIGHT}; low otherwise.",
        "RFC 9700 section 2.3 (access token privilege restriction)", _for_everyone,
    ),
    Rule(
        "left-behind", Family.PRIVILEGE, "Reach over what is gone",
        "Nobody can say what it was for, and if the name comes back it counts again.",
        "Medium where all but what is gone is reached; low otherwise.",
        "ISO/IEC 27002:2022 control 5.18 (access rights)", _left_behind,
    ),
)  # fmt: skip
