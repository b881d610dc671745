"""When time alone could change what the rules find: so that a sweep looks only at what changed or has come due."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime, time, timedelta

from jamb.core.audit.past import LOOKED_BACK
from jamb.core.audit.picture import ClientPicture, CredentialPicture
from jamb.core.audit.rules.credentials import DORMANT, RECENT
from jamb.core.audit.rules.privilege import WAITS_LONG
from jamb.core.audit.rules.registration import STARTS_WITHIN
from jamb.core.audit.rules.usual_use import SILENT_FROM_DAYS
from jamb.core.directory.policy import DirectoryPolicy
from jamb.core.ladder import Rung

# What is "at most a week ago" changes a moment after the week; what is "at least" changes on it.
_AFTER = datetime.resolution


def next_change(client: ClientPicture, policy: DirectoryPolicy, now: datetime) -> datetime | None:
    """Return the first moment after now at which the findings may differ though nothing was done; None: never.

    It may come too early, never too late: a test lets random clients age from one such moment to the next.
    """
    return min((one for one in _moments(client, policy, now) if one > now), default=None)


def _moments(client: ClientPicture, policy: DirectoryPolicy, now: datetime) -> Iterator[datetime]:
    for one in client.credentials:
        yield from _of_credential(one, policy)
    for place in client.resources:
        if place.uncounted_until is not None:
            yield place.uncounted_until + policy.observation
        for rung in place.rungs:
            yield from _of_rung(rung, policy)
    for rotation in client.rotations:
        yield rotation.overlap_ends_at
    for done in client.past:
        yield done.at + LOOKED_BACK
    yield from (tried.last_at + RECENT + _AFTER for tried in client.dead_tries)
    yield from (replay.last_at + RECENT + _AFTER for replay in client.told)
    yield from (redirect.since + STARTS_WITHIN for redirect in client.redirects)
    if client.grant_types_since is not None:
        yield client.grant_types_since + STARTS_WITHIN
    if client.registered_at is not None:
        yield client.registered_at + STARTS_WITHIN
    if client.last_seen_at is not None:
        yield client.last_seen_at + DORMANT
    yield from _of_habit(client, now)
    yield from filter(None, (client.trial_ends_at, *_around(client)))


def _around(client: ClientPicture) -> Iterator[datetime | None]:
    """Yield when evidence fades, and when what others may do changes."""
    for place in client.resources:
        yield from (place.objects_fade_at, place.people_fade_at, place.begins_at)
    yield from (one.changes_at for one in client.owners)
    yield client.around_changes_at


def _of_habit(client: ClientPicture, now: datetime) -> Iterator[datetime]:
    yield from (one.first_at + RECENT + _AFTER for one in client.networks)
    if client.days:
        # A day is judged when it is over.
        yield datetime.combine(now.date() + timedelta(days=1), time(), now.tzinfo)
        if client.last_seen_at is not None:
            yield client.last_seen_at + timedelta(days=SILENT_FROM_DAYS)


def _of_credential(one: CredentialPicture, policy: DirectoryPolicy) -> Iterator[datetime]:
    yield one.issued_at
    yield one.works_since + policy.observation
    yield from filter(None, (one.starts_at, one.withdrawn_at))
    if one.expires_at is not None:
        yield from (one.expires_at - policy.warn_before, one.expires_at)
    if one.last_used_at is not None:
        yield from (one.last_used_at + RECENT + _AFTER, one.last_used_at + DORMANT)


def _of_rung(rung: Rung, policy: DirectoryPolicy) -> Iterator[datetime]:
    if rung.fades_at is not None:
        yield rung.fades_at
    if rung.asked is not None:
        yield rung.asked.asked_at + WAITS_LONG
    if rung.ended_at is not None:
        yield rung.ended_at + WAITS_LONG
    for grant in rung.grants:
        yield grant.granted_at + policy.observation
        if grant.expires_at is not None:
            yield grant.expires_at
