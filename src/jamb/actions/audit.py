"""The audit of a directory: what is wrong now, since when, what is borne knowingly, and who sees to it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from enum import StrEnum
from uuid import UUID

from sqlmodel import Session

from jamb.actions.people import find_person
from jamb.actions.premises import Directory, Premises, find_client, find_directory, find_resource
from jamb.actions.sweep import MOST_FOR_A_READER, sweep
from jamb.core.audit import Act, Severity
from jamb.core.audit.reports import Reported
from jamb.core.clients import OwnerLevel
from jamb.core.errors import BadInput, Conflict, Forbidden, NotFound, Unsuited
from jamb.core.excess import Excess, trend
from jamb.store import clients, counts, findings, people
from jamb.store import excess as excess_store
from jamb.store.clients import ClientRow
from jamb.store.findings import FindingRow, GroupBy, Wanted, Which
from jamb.store.work import Actor, unit_of_work

LONGEST_WAIVER = timedelta(days=366)
WORDS_LONGEST = 500
# Bands of age of what is open; older is the last.
AGES = (7, 30, 90)
TREND_DAYS = 90
MOST_GIVEN = 500


@dataclass(frozen=True, slots=True)
class FindingView:
    """A finding with its history. `gone_at`: it was mended then; `assigned_by`: who gave it to whoever sees to it."""

    id: UUID
    found: Reported
    gone_at: datetime | None
    assigned_at: datetime | None
    assigned_by: str
    answered_at: datetime | None


@dataclass(frozen=True, slots=True)
class RuleTally:
    """How a rule stands. `worst`, `oldest`: of what is open."""

    rule: str
    open: int
    borne: int
    mended: int
    worst: Severity | None
    oldest: datetime | None


@dataclass(frozen=True, slots=True)
class Posture:
    """A directory in figures.

    Attributes:
        left: clients that are still to be looked at, because much changed at once.
        open: findings that count, by severity.
        ages: how many of these are up to so many days old (0: older), by severity.
        ending: live credentials by days left, the last band without end; endless ones apart.
        trend: excess at the end of each of the last days that somebody looked.
    """

    directory: str
    slug: str
    at: datetime
    clients: int
    left: int
    open: Mapping[Severity, int]
    borne: int
    mended: int
    rules: tuple[RuleTally, ...]
    ages: tuple[tuple[Severity, int, int], ...]
    ending: tuple[tuple[int | None, int], ...]
    excess: Excess
    trend: tuple[tuple[date, Excess], ...]


def read_posture(premises: Premises, slug: str, now: datetime) -> Posture:
    """Return a directory's posture; what changed is looked at first."""
    left = sweep(premises, slug, now, MOST_FOR_A_READER).left
    with Session(premises.engine) as session:
        directory = find_directory(session, slug)
        tally = findings.tally(session, directory.id, now)
        counted = dict.fromkeys(sorted(Severity, reverse=True), 0)
        for _, severity, which, count, _ in tally:
            if which is Which.OPEN:
                counted[Severity(severity)] += count
        standing = {which: sum(count for _, _, one, count, _ in tally if one is which) for which in Which}
        aged = findings.ages(session, directory.id, now, AGES)
        changes = excess_store.changes(session, directory.id)
        return Posture(
            directory.name, directory.slug, now, counts.clients_in(session, directory.id), left, counted,
            standing[Which.BORNE], standing[Which.MENDED], _rule_tallies(tally),
            tuple((Severity(severity), band, count) for severity, band, count in aged),
            tuple(counts.ending(session, directory.id, now)),
            excess_store.in_all(session, directory.id),
            tuple(trend(changes, now.date(), TREND_DAYS)),
        )  # fmt: skip


def _rule_tallies(tally: Sequence[tuple[str, int, Which, int, datetime]]) -> tuple[RuleTally, ...]:
    found = []
    for name in sorted({rule for rule, *_ in tally}):
        mine = [one for one in tally if one[0] == name]
        by = {which: sum(count for _, _, one, count, _ in mine if one is which) for which in Which}
        still = [(severity, oldest) for _, severity, which, _, oldest in mine if which is Which.OPEN]
        worst = max((Severity(severity) for severity, _ in still), default=None)
        oldest = min((at for _, at in still), default=None)
        found.append(RuleTally(name, by[Which.OPEN], by[Which.BORNE], by[Which.MENDED], worst, oldest))
    return tuple(sorted(found, key=lambda one: (-(one.worst or 0), -one.open, one.rule)))


def run_audit(premises: Premises, slug: str, now: datetime) -> tuple[str, list[FindingView]]:
    """Return the directory's name and all that is wrong now, worst first: for reports."""
    sweep(premises, slug, now, None)
    with Session(premises.engine) as session:
        directory = find_directory(session, slug)
        views = _views(session, findings.findings_of(session, directory.id), now)
        return directory.name, sorted(views, key=_worst)


Position = tuple[int, str, UUID]


def list_findings(
    premises: Premises, slug: str, wanted: Wanted, now: datetime, after: Position | None, limit: int
) -> tuple[list[FindingView], Position | None]:
    """Return a page of findings, worst first, and where the next one begins. What changed is looked at first."""
    if after is None:
        sweep(premises, slug, now, MOST_FOR_A_READER)
    with Session(premises.engine) as session:
        directory = find_directory(session, slug)
        rows = findings.page(session, directory.id, wanted, now, after=after, limit=limit + 1)
        shown = rows[:limit]
        last = shown[-1][0] if len(rows) > limit else None
        return _views(session, shown, now), (last.severity, last.rule, last.id) if last is not None else None


def read_finding(premises: Premises, slug: str, finding_id: UUID, now: datetime) -> FindingView:
    """Return a finding, mended or not. Raises `NotFound`."""
    with Session(premises.engine) as session:
        row, client = _find(session, find_directory(session, slug), finding_id)
        return _views(session, [(row, client.name)], now)[0]


def group_findings(
    premises: Premises, slug: str, by: GroupBy, wanted: Wanted, now: datetime, skip: int, limit: int
) -> list[findings.FindingGroup]:
    """Return findings in groups, the worst first."""
    with Session(premises.engine) as session:
        directory = find_directory(session, slug)
        return findings.groups(session, directory.id, by, wanted, now, skip=skip, limit=limit)


class ExcessBy(StrEnum):
    CLIENT = "client"
    OWNER = "owner"
    RESOURCE = "resource"


def rank_excess(premises: Premises, slug: str, by: ExcessBy, limit: int) -> list[tuple[str, str, Excess]]:
    """Return (key, title, excess), the most unused weight first."""
    readers = {
        ExcessBy.CLIENT: excess_store.by_client,
        ExcessBy.OWNER: excess_store.by_owner,
        ExcessBy.RESOURCE: excess_store.by_resource,
    }
    with Session(premises.engine) as session:
        directory = find_directory(session, slug)
        return readers[by](session, directory.id, limit)


def excess_trend(
    premises: Premises, slug: str, by: ExcessBy | None, key: str, now: datetime, days: int
) -> list[tuple[date, Excess]]:
    """Return the excess at the end of each day: of the directory, or of one client, owner or resource."""
    with Session(premises.engine) as session:
        directory = find_directory(session, slug)
        client_ids: list[str] | None = None
        resource_ids: list[UUID] | None = None
        if by is ExcessBy.CLIENT:
            client_ids = [find_client(session, directory, key).id]
        elif by is ExcessBy.OWNER:
            client_ids = clients.owned_by(session, find_person(session, directory, key).id).get(OwnerLevel.FULL, [])
        elif by is ExcessBy.RESOURCE:
            resource_ids = [find_resource(session, directory, key).id]
        changes = excess_store.changes(session, directory.id, client_ids=client_ids, resource_ids=resource_ids)
        return trend(changes, now.date(), days)


def waive(
    premises: Premises, directory: Directory, finding_id: UUID, days: int, reason: str, actor: Actor, now: datetime
) -> FindingView:
    """Bear a finding knowingly for some days; it comes back when they are over.

    Raises:
        BadInput: no reason, or too long. Conflict: it is mended already.
    """
    said = reason.strip()
    if not 1 <= days <= LONGEST_WAIVER.days:
        raise BadInput.field("days", days, f"1 to {LONGEST_WAIVER.days}", "Waive it again when it comes back.")
    if not said or len(said) > WORDS_LONGEST:
        raise BadInput.field("reason", f"{len(said)} characters", f"1 to {WORDS_LONGEST}: why it is borne")
    with unit_of_work(premises.engine, premises.sealer, directory.id) as unit:
        row, client = _find(unit.session, directory, finding_id)
        if row.gone_at is not None:
            raise Conflict("It is mended already.", next_step="Look at the audit again.")
        row.waived_until, row.waived_by, row.waived_reason = now + timedelta(days=days), actor.name, said
        unit.session.add(row)
        after = {"finding": row.title, "until": row.waived_until.date().isoformat()}
        unit.enter(actor, "finding.waived", _subject(row, client), now=now, after=after, reason=said)
        unit.session.flush()
        return _views(unit.session, [(row, client.name)], now)[0]


def end_waiver(premises: Premises, directory: Directory, finding_id: UUID, actor: Actor, now: datetime) -> FindingView:
    """Count a waived finding again. Raises `Conflict` when it is not waived."""
    with unit_of_work(premises.engine, premises.sealer, directory.id) as unit:
        row, client = _find(unit.session, directory, finding_id)
        if not row.waived(now):
            raise Conflict("It is not waived.", next_step="Look at the audit again.")
        before = {"until": row.waived_until.date().isoformat() if row.waived_until else "", "reason": row.waived_reason}
        row.waived_until, row.waived_by, row.waived_reason = None, "", ""
        unit.session.add(row)
        unit.enter(
            actor, "finding.waiver-ended", _subject(row, client), now=now, before=before, after={"finding": row.title}
        )
        unit.session.flush()
        return _views(unit.session, [(row, client.name)], now)[0]


def assign(
    premises: Premises, directory: Directory, finding_id: UUID, login: str, note: str, actor: Actor, now: datetime
) -> FindingView:
    """Have a person see to a finding, with a note; an empty login takes it off again.

    Raises:
        BadInput: nobody of that login here, or a note that is too long.
    """
    said = note.strip()
    if len(said) > WORDS_LONGEST:
        raise BadInput.field("note", f"{len(said)} characters", f"at most {WORDS_LONGEST} characters")
    with unit_of_work(premises.engine, premises.sealer, directory.id) as unit:
        row, client = _find(unit.session, directory, finding_id)
        person = people.by_login(unit.session, directory.id, login.strip().lower()) if login.strip() else None
        if login.strip() and (person is None or not person.live):
            raise Unsuited.field("person", login, "the login of a person here who may act")
        if person is None or row.assigned_to != person.id:
            row.answer, row.answered_at = "", None
        row.assigned_to, row.note = person.id if person is not None else None, said
        row.assigned_at = now if person is not None else None
        row.assigned_by, row.assigned_by_id = (actor.name, actor.id) if person is not None else ("", "")
        unit.session.add(row)
        after = {"finding": row.title, "to": person.name if person is not None else "nobody", "note": said}
        unit.enter(actor, "finding.assigned", _subject(row, client), now=now, after=after)
        unit.session.flush()
        return _views(unit.session, [(row, client.name)], now)[0]


def given_to(premises: Premises, slug: str, person_id: UUID, now: datetime) -> list[FindingView]:
    """Return the open findings that a person is to see to, borne ones too, worst first."""
    with Session(premises.engine) as session:
        directory = find_directory(session, slug)
        rows = [
            row
            for which in (Which.OPEN, Which.BORNE)
            for row in findings.page(
                session, directory.id, Wanted(which, assigned_to=person_id), now, after=None, limit=MOST_GIVEN
            )
        ]
        return _views(session, rows, now)


def answer(
    premises: Premises, directory: Directory, client_id: str, finding_id: UUID, words: str, actor: Actor, now: datetime
) -> FindingView:
    """Answer as whoever sees to a finding; it can be answered anew.

    Raises:
        BadInput: no words, or too many. Forbidden: another sees to it. Conflict: it is mended already.
    """
    said = words.strip()
    if not said or len(said) > WORDS_LONGEST:
        raise BadInput.field("words", f"{len(said)} characters", f"1 to {WORDS_LONGEST}: what you did or found")
    with unit_of_work(premises.engine, premises.sealer, directory.id) as unit:
        row, client = _find(unit.session, directory, finding_id)
        if client.id != client_id:
            raise NotFound("This client has no such finding.", next_step="See what is given to you.")
        if row.assigned_to is None or str(row.assigned_to) != actor.id:
            raise Forbidden("It is not given to you.", next_step="Have somebody who may give it to you.")
        if row.gone_at is not None:
            raise Conflict("It is mended already.", next_step="There is nothing left to answer.")
        row.answer, row.answered_at = said, now
        unit.session.add(row)
        after = {"finding": row.title, "answer": said}
        unit.enter(actor, "finding.answered", _subject(row, client), now=now, after=after)
        unit.session.flush()
        return _views(unit.session, [(row, client.name)], now)[0]


def _find(session: Session, directory: Directory, finding_id: UUID) -> tuple[FindingRow, ClientRow]:
    found = findings.finding_by_id(session, directory.id, finding_id)
    if found is None:
        raise NotFound(f"There is no finding {finding_id}.", next_step="See the audit.")
    return found


def _subject(row: FindingRow, client: ClientRow) -> dict[str, str]:
    return {"kind": "finding", "id": str(row.id), "name": row.rule, "client": client.id, "client_name": client.name}


def _worst(view: FindingView) -> tuple[bool, int, str, str, str]:
    one = view.found
    return one.waived_until is not None, -one.severity, one.rule, one.client_name.casefold(), one.subject


def _views(session: Session, rows: Sequence[tuple[FindingRow, str]], now: datetime) -> list[FindingView]:
    names = people.names_of(session, (row.assigned_to for row, _ in rows))
    return [
        FindingView(
            row.id,
            Reported(
                rule=row.rule,
                client_id=row.client_id,
                client_name=name,
                subject=row.subject,
                severity=Severity(row.severity),
                title=row.title,
                evidence=row.evidence,
                mend=row.mend,
                act=Act(row.act),
                target=row.target,
                first_seen_at=row.first_seen_at,
                returned=row.returned,
                waived_until=row.waived_until if row.waived(now) else None,
                waived_by=row.waived_by if row.waived(now) else "",
                waived_reason=row.waived_reason if row.waived(now) else "",
                assigned_to=names[row.assigned_to],
                note=row.note,
                answer=row.answer,
            ),
            row.gone_at,
            row.assigned_at,
            row.assigned_by,
            row.answered_at,
        )
        for row, name in rows
    ]
