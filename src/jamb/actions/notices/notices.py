"""Notices: find what is to be told, to whom, once; and make the mails and pushes that carry it."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any
from uuid import UUID

from sqlmodel import Session

from jamb.actions.base.act import Act
from jamb.actions.base.backend import Backend
from jamb.actions.base.lookups import find_directory
from jamb.actions.credentials.handovers import MOST_LATE_TOLD
from jamb.actions.notices import rounds
from jamb.actions.notices.audit_notices import audit_facts
from jamb.actions.notices.rounds import TOLD_OF
from jamb.core.clients.attempts import DEAD
from jamb.core.consent.requests import RequestState
from jamb.core.directory.directories import Directory
from jamb.core.ids import person_id_in
from jamb.core.notices import Audience, Digest, Fact, NoticeKind, coming_of_stage, digest, stage_of
from jamb.core.rotation import RotationEnd, RotationState
from jamb.store.base.work import observation
from jamb.store.credentials import rotations
from jamb.store.credentials.credentials import CredentialRow
from jamb.store.credentials.rotations import LoadedRotation, RotationRow, used_late
from jamb.store.directory.directories import DirectoryRow, all_directories
from jamb.store.directory.people import PersonRow
from jamb.store.directory.roles import holding_roles
from jamb.store.notices import notices
from jamb.store.notices.notices import MailRow, NoticeRow
from jamb.store.notices.rounds import News, keep_round
from jamb.wire.notices.notices import Notice

MOST_ROTATIONS = 100_000
_ROLES = {
    Audience.CUSTODIANS: ("custodian", "steward"),
    Audience.APPROVERS: ("approver", "steward"),
    Audience.AUDITORS: ("auditor", "steward"),
    Audience.STEWARDS: ("steward",),
}
_OWNERS, _BOTH = (Audience.OWNERS,), (Audience.OWNERS, Audience.CUSTODIANS)


@dataclass(frozen=True, slots=True)
class Told:
    """How much was new: notices to people, mails made, events for webhooks."""

    notices: int
    mails: int
    pushes: int


def tell(backend: Backend, slug: str, now: datetime, *, whole: bool = False) -> Told:
    """Note what each person and webhook of a directory shall hear, and make the mails that are due.

    Any number of processes may at the same time: one after the other does, and what was told is not told again.

    Args:
        whole: look at all that stands, not only at what is new since the last time.
    """
    with observation(backend.engine) as session:
        directory = find_directory(session, slug)
        notices.take_turn(session, directory.id)
        news, here = rounds.since_last(session, directory.id, now, whole=whole)
        facts = gather(session, directory, news, now)
        noted = notices.add_notices(session, directory.id, addressed(session, directory, facts, now), now)
        quiet_since = now - timedelta(hours=directory.policy.digest_hours)
        mails = notices.make_mails(session, directory.id, now, quiet_since)
        webhook_ids = notices.webhook_ids(session, directory.id)
        pushes = 0
        if webhook_ids:
            pushes = notices.add_pushes(session, webhook_ids, {fact.key: _event(fact) for fact in facts}, now)
        keep_round(session, here)
        return Told(noted, mails, pushes)


def list_told(
    act: Act, query: str = "", after: tuple[datetime, UUID] | None = None, limit: int = 50
) -> tuple[list[Notice], tuple[datetime, UUID] | None]:
    """Return a page of what people were told, and how the mails fared; the latest first.

    Args:
        query: part of what was told, or of a person's name.

    Returns:
        The page, and when its last one was noted and its id where there are more.
    """
    with act.read() as session:
        rows = notices.told(session, act.directory.id, query, after, limit + 1)
        last = rows[limit - 1][0] if len(rows) > limit else None
        shown = [
            Notice(
                id=row.id,
                kind=row.kind,
                person=name,
                client_id=row.client_id,
                words=row.words,
                path=row.path,
                at=row.at,
                sent_at=mail.sent_at if mail else None,
                error=(mail.failed or mail.error) if mail else "",
                failed=bool(mail and mail.failed),
            )
            for row, name, mail in rows[:limit]
        ]
        return shown, (last.at, last.id) if last is not None else None


def directories_to_tell(backend: Backend) -> list[str]:
    with Session(backend.engine) as session:
        return [row.slug for row in all_directories(session)]


def gather(session: Session, directory: Directory, news: News, now: datetime) -> list[Fact]:
    """Return what is to be told of a directory as it stands; what stays the same keeps its key."""
    return [
        *_ending(session, directory, news, now),
        *_rotating(session, directory, news, now),
        *_tried(session, directory, news),
        *_requested(session, directory, news, now),
        *_links(session, directory, news),
        *audit_facts(session, directory, news, now),
    ]


def mail(session: Session, backend: Backend, mail: MailRow) -> tuple[PersonRow, str, Digest]:
    """Return whom a mail is for, the directory's domain, and its words."""
    person = session.get_one(PersonRow, mail.person_id)
    directory = session.get_one(DirectoryRow, mail.directory_id)
    rows = notices.in_mail(session, mail.id)
    told = [(NoticeKind(row.kind), row.words, _place(backend, row)) for row in rows]
    return person, directory.domain, digest(directory.name, person.name, backend.base_url, told)


def _place(backend: Backend, row: NoticeRow) -> str:
    if row.link is None:
        return row.path
    return backend.sealer.open(row.link, f"notice/{row.id}").decode()


def _ending(session: Session, directory: Directory, news: News, now: datetime) -> Iterable[Fact]:
    warn_days = directory.policy.warn_days
    wanted = news.of(
        CredentialRow.client_id,
        (CredentialRow.expires_at, coming_of_stage(news.since, now, warn_days)),
        (CredentialRow.starts_at, [(news.since, now)]),
    )
    for one in notices.ending_soon(session, directory.id, now, now + directory.policy.warn_before, wanted):
        stage = stage_of(one.expires_at, now, warn_days)
        if stage is None:
            continue
        left = max((one.expires_at - now).days, 0)
        when = "today" if left == 0 else f"in {left} day{'' if left == 1 else 's'}"
        used = f"last used {one.last_used_at:%Y-%m-%d}" if one.last_used_at is not None else "never used"
        yield Fact(
            f"ends/{one.id}/{stage}",
            NoticeKind.ENDS_SOON,
            one.client_id,
            one.client_name,
            f"“{one.client_name}”: {one.hint} ends {when}, on {one.expires_at:%Y-%m-%d} ({used})",
            f"/clients/{one.client_id}#credentials",
            # On the last day it is everybody's.
            _OWNERS if stage > 1 else _BOTH,
        )


def _rotating(session: Session, directory: Directory, news: News, now: datetime) -> Iterable[Fact]:
    path = "/rotation"
    spans = [*coming_of_stage(news.since, now, directory.policy.warn_days), (news.since, now)]
    # A use of the old one makes one that was quiet open or overdue again.
    used = used_late(now + directory.policy.warn_before, news.since)
    wanted = news.of(RotationRow.client_id, (RotationRow.overlap_ends_at, spans)) | used
    for one in rotations.open_where(session, directory.id, wanted, MOST_ROTATIONS):
        row, name = one.row, one.client_name
        if row.opened_at > now - TOLD_OF:
            words = (
                f"“{name}”: {one.new.hint} follows {one.old.hint}; both are valid until {row.overlap_ends_at:%Y-%m-%d}"
            )
            yield Fact(
                f"rotation/{row.id}/opened", NoticeKind.ROTATION_OPENED, row.client_id, name, words, path, _OWNERS
            )
        stage = stage_of(row.overlap_ends_at, now, directory.policy.warn_days)
        if one.facts().state(now) is RotationState.OPENED and stage is not None:
            until = f"{row.overlap_ends_at:%Y-%m-%d}"
            words = f"“{name}”: nothing uses {one.new.hint} yet, and {one.old.hint} should go by {until}"
            key = f"rotation/{row.id}/unseen/{stage}"
            audiences = _OWNERS if stage > 1 else _BOTH
            yield Fact(key, NoticeKind.ROTATION_UNSEEN, row.client_id, name, words, path, audiences)
        if one.facts().state(now) is RotationState.OVERDUE:
            words = f"“{name}”: the overlap ended {row.overlap_ends_at:%Y-%m-%d}, and {one.old.hint} is still in use"
            key = f"rotation/{row.id}/overdue/{row.overlap_ends_at:%Y-%m-%d}"
            yield Fact(key, NoticeKind.ROTATION_OVERDUE, row.client_id, name, words, path, _BOTH)
    for one in _ended(session, directory, news):
        row, name = one.row, one.client_name
        closed = row.ended == RotationEnd.CLOSED.value
        words = f"“{name}”: {one.old.hint} is withdrawn, {one.new.hint} took its place"
        if not closed:
            words = f"“{name}”: given up, {one.new.hint} is withdrawn and {one.old.hint} stands"
        yield Fact(f"rotation/{row.id}/ended", NoticeKind.ROTATION_ENDED, row.client_id, name, words, path, _OWNERS)


def _ended(session: Session, directory: Directory, news: News) -> Iterable[LoadedRotation]:
    """Return the rotations that ended since, and those of the clients that were changed that ended lately."""
    spans: list[tuple[Sequence[str] | None, datetime]] = [(None, news.since)]
    spans += [(news.clients, news.told_of)] if news.clients else []
    found: dict[UUID, LoadedRotation] = {}
    for clients, since in spans:
        ended = rotations.page(
            session, directory.id, client_ids=clients, ended_since=since, after=None, limit=MOST_ROTATIONS
        )
        found.update({one.row.id: one for one in ended})
    return found.values()


def _tried(session: Session, directory: Directory, news: News) -> Iterable[Fact]:
    for dead_try in notices.dead_tries(session, directory.id, [outcome.value for outcome in DEAD], news):
        times = f"{dead_try.times} time{'' if dead_try.times == 1 else 's'}"
        words = (
            f"“{dead_try.client_name}” tried {times} with {dead_try.hint or 'a credential'}, which is dead "
            f"({dead_try.outcome.replace('-', ' ')}), last {dead_try.last_at:%Y-%m-%d %H:%M} UTC"
            f" from {dead_try.address or 'an unknown address'}"
        )
        # Once a week for each credential, however often it is tried.
        year, week, _ = dead_try.last_at.isocalendar()
        key = f"dead/{dead_try.client_id}/{dead_try.hint}/{year}-{week}"
        yield Fact(
            key,
            NoticeKind.EXPIRED_TRIED,
            dead_try.client_id,
            dead_try.client_name,
            words,
            f"/clients/{dead_try.client_id}#attempts",
            _OWNERS,
        )


def _requested(session: Session, directory: Directory, news: News, now: datetime) -> Iterable[Fact]:
    for row, name in notices.requests_since(session, directory.id, news, now):
        path = f"/desk/{row.id}"
        if row.state == RequestState.WAITING:
            count = len(row.ask_ids)
            what = f"{count} permission{'' if count == 1 else 's'}" if row.dry_run_id is None else "less than it holds"
            if row.act:
                what = f"another person's yes ({row.reason.lower()})"
            words = f"“{name}”: {row.requested_by} asks for {what}, due {row.due_at:%Y-%m-%d}"
            yield Fact(
                f"request/{row.id}/waits",
                NoticeKind.REQUEST_WAITS,
                row.client_id or "",
                name,
                words,
                path,
                (Audience.APPROVERS,),
            )
        else:
            words = f"“{name}”: the request of {row.requested_by} is {row.state}" + (
                f" by {row.decided_by}" if row.decided_by else ""
            )
            asker = person_id_in(row.requested_by_id)
            yield Fact(
                f"request/{row.id}/{row.state}",
                NoticeKind.REQUEST_DECIDED,
                row.client_id or "",
                name,
                words,
                path,
                _OWNERS if row.client_id is not None else (),
                [asker] if asker is not None else [],
            )


def _links(session: Session, directory: Directory, news: News) -> Iterable[Fact]:
    for row, name in notices.tried_again(session, directory.id, news):
        words = (
            f"“{name}”: a handover link was tried again from {row.late_from or 'an unknown address'} after it was gone"
        )
        key = f"link/{row.id}/{min(row.late_tries, MOST_LATE_TOLD)}"
        yield Fact(
            key, NoticeKind.LINK_TRIED, row.client_id, name, words, f"/clients/{row.client_id}#credentials", _BOTH
        )


def addressed(session: Session, directory: Directory, facts: Sequence[Fact], now: datetime) -> list[tuple[UUID, Fact]]:
    """Return each fact with each person who shall hear of it: of a client only whose role counts for it."""
    if not facts:
        return []
    owners = notices.owners_to_tell(session, {one.client_id for one in facts})
    holding = {audience: holding_roles(session, directory.id, names, now) for audience, names in _ROLES.items()}
    found = []
    for fact in facts:
        people, owned_by = set(fact.people), owners.get(fact.client_id, [])
        for audience in fact.audiences:
            if audience is Audience.OWNERS and owned_by:
                people.update(owned_by)
                continue
            held = holding[fact.else_to if audience is Audience.OWNERS else audience]
            people.update(one.person.id for one in held if one.counts_for(fact.client_id or None))
        found += [(person, fact) for person in sorted(people)]
    return found


def _event(fact: Fact) -> dict[str, Any]:
    return {
        "kind": fact.kind.value,
        "client_id": fact.client_id,
        "client_name": fact.client_name,
        "words": fact.words,
        "path": fact.path,
    }
