"""What people must hear of the audit: reviews that wait for them or are over, dry runs that are over, and weekly
how the directory stands."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime

from sqlmodel import Session

from jamb.core.audit.findings import Severity
from jamb.core.audit.reviews import Answer
from jamb.core.directory.directories import Directory
from jamb.core.ids import person_id_in
from jamb.core.lists import Which
from jamb.core.notices import Audience, Fact, NoticeKind, coming_of_stage, stage_of
from jamb.store.audit import excess, findings, reviews
from jamb.store.audit.reviews import ReviewRow
from jamb.store.clients.clients import ClientRow
from jamb.store.consent import dry_runs
from jamb.store.consent.dry_runs import DryRunRow
from jamb.store.notices.rounds import News

_MOST = 1000
# Beside the first word a review is brought to mind a week and a day before its end.
_FIRST_STAGE = 7


def audit_facts(session: Session, directory: Directory, news: News, now: datetime) -> Iterable[Fact]:
    yield from _asked(session, directory, news, now)
    yield from _over(session, directory, news.since)
    yield from _cared_for(session, directory, news.since)
    yield from _dry_run(session, directory, news, now)
    if news.clients is None or now.isocalendar()[:2] != news.since.isocalendar()[:2]:
        yield from _weekly(session, directory, now)


def _asked(session: Session, directory: Directory, news: News, now: datetime) -> Iterable[Fact]:
    spans = coming_of_stage(news.since, now, _FIRST_STAGE)
    wanted = news.of(ClientRow.id, (ReviewRow.ends_at, spans), (ReviewRow.started_at, [(news.since, now)]))
    for row, client_id, name, count in reviews.open_with(session, directory.id, now, wanted):
        stage = stage_of(row.ends_at, now, _FIRST_STAGE)
        grants = f"{count} grant{'' if count == 1 else 's'}"
        words = f"“{name}”: {row.name} asks about {grants}, until {row.ends_at:%Y-%m-%d}"
        key = f"review/{row.id}/{client_id}/{'asked' if stage is None else stage}"
        audiences = (Audience.OWNERS,) if stage is None or stage > 1 else (Audience.OWNERS, Audience.STEWARDS)
        yield Fact(
            key, NoticeKind.REVIEW_ASKS, client_id, name, words, "/reviews", audiences, else_to=Audience.STEWARDS
        )


def _over(session: Session, directory: Directory, since: datetime) -> Iterable[Fact]:
    rows = reviews.closed_since(session, directory.id, since)
    counted = reviews.counts(session, [row.id for row in rows])
    for row in rows:
        here = counted.get(row.id, {})
        proposed, given_up = here.get(Answer.PROPOSED, 0), here.get(Answer.GIVE_UP, 0) + here.get(Answer.NARROW, 0)
        words = f"{row.name}: {given_up} to be ended or narrowed, {proposed} without an answer, proposed for withdrawal"
        path = f"/reviews/{row.id}"
        yield Fact(f"review/{row.id}/over", NoticeKind.REVIEW_OVER, "", row.name, words, path, (Audience.APPROVERS,))


def _cared_for(session: Session, directory: Directory, since: datetime) -> Iterable[Fact]:
    """Return what is given to somebody, to them, and what they answered, to whoever gave it."""
    for row, name in findings.cared_for_since(session, directory.id, since):
        if row.assigned_to is not None and row.assigned_at is not None and row.assigned_at > since:
            note = f" ({row.note})" if row.note else ""
            words = f"“{name}”: {row.assigned_by} asks you to see to this: {row.title}{note}"
            key = f"finding/{row.id}/given/{row.assigned_to}/{row.assigned_at.isoformat()}"
            yield Fact(key, NoticeKind.FINDING_GIVEN, row.client_id, name, words, "/reviews", (), [row.assigned_to])
        giver = person_id_in(row.assigned_by_id)
        if row.answered_at is not None and row.answered_at > since and giver is not None:
            words = f"“{name}”: {row.title}. The answer: {row.answer}"
            key = f"finding/{row.id}/answered/{row.answered_at.isoformat()}"
            path = f"/audit?finding={row.id}"
            yield Fact(key, NoticeKind.FINDING_ANSWERED, row.client_id, name, words, path, (), [giver])


def _dry_run(session: Session, directory: Directory, news: News, now: datetime) -> Iterable[Fact]:
    over = news.of(DryRunRow.client_id, (DryRunRow.dry_run_until, [(news.since, now)]))
    for row, name, missed in dry_runs.running_in(session, directory.id, _MOST, over):
        if row.dry_run_until <= now:
            found = f"{missed} calls would have been refused" if missed else "nothing would have been refused"
            words = f"“{name}”: a narrower grant was in a dry run until {row.dry_run_until:%Y-%m-%d}, and {found}"
            path = f"/clients/{row.client_id}#ladder"
            yield Fact(
                f"trial/{row.id}/done", NoticeKind.DRY_RUN_OVER, row.client_id, name, words, path, (Audience.APPROVERS,)
            )


def _weekly(session: Session, directory: Directory, now: datetime) -> Iterable[Fact]:
    """Return how the directory stands, under the week: whoever heard it this week hears it no more."""
    year, week, _ = now.isocalendar()
    tally = findings.tally(directory.id, now).of(session)
    if not tally:
        return
    counts = {
        severity: sum(count for _, one, which, count, _ in tally if which is Which.OPEN and one == severity)
        for severity in sorted(Severity, reverse=True)
    }
    listed = ", ".join(f"{count} {severity.word}" for severity, count in counts.items() if count) or "none"
    resolved = sum(count for _, _, which, count, _ in tally if which is Which.RESOLVED)
    stands = excess.in_all(directory.id).of(session)
    share = "too early to say" if stands.share is None else f"{stands.share:.0%} of the granted weight is not used"
    words = f"Open findings: {listed}; {resolved} resolved in the last thirty days. Excess: {share}."
    key = f"audit/{directory.id}/{year}-{week:02}"
    yield Fact(key, NoticeKind.AUDIT_WEEKLY, "", directory.name, words, "/audit", (Audience.AUDITORS,))
