"""The audit of a directory: what is wrong now, since when, what is waived, and who sees to it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime, timedelta
from uuid import UUID

from sqlmodel import Session

from jamb.actions.audit.evaluation import look_first, sweep
from jamb.actions.base.act import Act
from jamb.core.audit.findings import RemedyKind, Severity
from jamb.core.audit.reports import Reported
from jamb.core.directory.directories import Directory
from jamb.core.errors import BadInput, Conflict, Forbidden, NotFound, Unsuited
from jamb.core.lists import GroupBy, Which
from jamb.store.audit import findings
from jamb.store.audit.findings import FindingRow, Wanted
from jamb.store.clients.clients import ClientRow
from jamb.store.directory import people
from jamb.wire.audit.audit import KeptFinding, kept_of

LONGEST_WAIVER = timedelta(days=366)
WORDS_LONGEST = 500
MOST_GIVEN = 500


def run_audit(act: Act) -> list[Reported]:
    """Return all that is wrong now, worst first: for reports."""
    sweep(act.backend, act.slug, act.now, None)
    with act.read() as session:
        rows = findings.findings_of(session, act.directory.id)
        names = people.names_of(session, (row.assigned_to for row, _ in rows))
        return sorted((_reported(row, name, names, act.now) for row, name in rows), key=_worst)


Position = tuple[int, str, UUID]


def list_findings(
    act: Act, wanted: Wanted, after: Position | None, limit: int
) -> tuple[list[KeptFinding], Position | None]:
    """Return a page of findings, worst first, and where the next one begins. What changed is looked at first."""
    if after is None:
        look_first(act)
    with act.read() as session:
        rows = findings.page(session, act.directory.id, wanted, act.now, after=after, limit=limit + 1)
        shown = rows[:limit]
        last = shown[-1][0] if len(rows) > limit else None
        return _views(session, shown, act.now), (last.severity, last.rule, last.id) if last is not None else None


def read_finding(act: Act, finding_id: UUID) -> KeptFinding:
    """Return a finding, resolved or not. Raises `NotFound`."""
    with act.read() as session:
        row, client = _find(session, act.directory, finding_id)
        return _views(session, [(row, client.name)], act.now)[0]


def group_findings(act: Act, by: GroupBy, wanted: Wanted, skip: int, limit: int) -> list[findings.FindingGroup]:
    """Return findings in groups, the worst first."""
    with act.read() as session:
        return findings.groups(session, act.directory.id, by, wanted, act.now, skip=skip, limit=limit)


def waive(act: Act, finding_id: UUID, days: int, reason: str) -> KeptFinding:
    """Waive a finding for some days; it comes back when they are over.

    Raises:
        BadInput: no reason, or too long. Conflict: it is resolved already.
    """
    said = reason.strip()
    if not 1 <= days <= LONGEST_WAIVER.days:
        raise BadInput.field("days", days, f"1 to {LONGEST_WAIVER.days}", "Waive it again when it comes back.")
    if not said or len(said) > WORDS_LONGEST:
        raise BadInput.field("reason", f"{len(said)} characters", f"1 to {WORDS_LONGEST}: why it is waived")
    with act.change() as unit:
        row, client = _find(unit.session, act.directory, finding_id)
        if row.resolved_at is not None:
            raise Conflict("It is resolved already.", next_step="Look at the audit again.")
        row.waived_until, row.waived_by, row.waived_reason = act.now + timedelta(days=days), act.actor.name, said
        unit.session.add(row)
        after = {"finding": row.title, "until": row.waived_until.date().isoformat()}
        unit.enter("finding.waived", _subject(row, client), after=after, reason=said)
        unit.session.flush()
        return _views(unit.session, [(row, client.name)], act.now)[0]


def end_waiver(act: Act, finding_id: UUID) -> KeptFinding:
    """Count a waived finding again. Raises `Conflict` when it is not waived."""
    with act.change() as unit:
        row, client = _find(unit.session, act.directory, finding_id)
        if not row.waived(act.now):
            raise Conflict("It is not waived.", next_step="Look at the audit again.")
        before = {"until": row.waived_until.date().isoformat() if row.waived_until else "", "reason": row.waived_reason}
        row.waived_until, row.waived_by, row.waived_reason = None, "", ""
        unit.session.add(row)
        unit.enter("finding.waiver-ended", _subject(row, client), before=before, after={"finding": row.title})
        unit.session.flush()
        return _views(unit.session, [(row, client.name)], act.now)[0]


def assign(act: Act, finding_id: UUID, login: str, note: str) -> KeptFinding:
    """Have a person see to a finding, with a note; an empty login takes it off again.

    Raises:
        BadInput: nobody of that login here, or a note that is too long.
    """
    said = note.strip()
    if len(said) > WORDS_LONGEST:
        raise BadInput.field("note", f"{len(said)} characters", f"at most {WORDS_LONGEST} characters")
    with act.change() as unit:
        row, client = _find(unit.session, act.directory, finding_id)
        person = people.by_login(unit.session, act.directory.id, login.strip().lower()) if login.strip() else None
        if login.strip() and (person is None or not person.active):
            raise Unsuited.field("person", login, "the login of a person here who may act")
        if person is None or row.assigned_to != person.id:
            row.answer, row.answered_at = "", None
        row.assigned_to, row.note = person.id if person is not None else None, said
        row.assigned_at = act.now if person is not None else None
        row.assigned_by, row.assigned_by_id = (act.actor.name, act.actor.id) if person is not None else ("", "")
        unit.session.add(row)
        after = {"finding": row.title, "to": person.name if person is not None else "nobody", "note": said}
        unit.enter("finding.assigned", _subject(row, client), after=after)
        unit.session.flush()
        return _views(unit.session, [(row, client.name)], act.now)[0]


def given_to(act: Act, person_id: UUID) -> list[KeptFinding]:
    """Return the open findings that a person is to see to, waived ones too, worst first."""
    with act.read() as session:
        rows = [
            row
            for which in (Which.OPEN, Which.WAIVED)
            for row in findings.page(
                session, act.directory.id, Wanted(which, assigned_to=person_id), act.now, after=None, limit=MOST_GIVEN
            )
        ]
        return _views(session, rows, act.now)


def answer(act: Act, client_id: str, finding_id: UUID, words: str) -> KeptFinding:
    """Answer as whoever sees to a finding; it can be answered anew.

    Raises:
        BadInput: no words, or too many. Forbidden: another sees to it. Conflict: it is resolved already.
    """
    said = words.strip()
    if not said or len(said) > WORDS_LONGEST:
        raise BadInput.field("words", f"{len(said)} characters", f"1 to {WORDS_LONGEST}: what you did or found")
    with act.change() as unit:
        row, client = _find(unit.session, act.directory, finding_id)
        if client.id != client_id:
            raise NotFound("This client has no such finding.", next_step="See what is given to you.")
        if row.assigned_to is None or str(row.assigned_to) != act.actor.id:
            raise Forbidden("It is not given to you.", next_step="Have somebody who may give it to you.")
        if row.resolved_at is not None:
            raise Conflict("It is resolved already.", next_step="There is nothing left to answer.")
        row.answer, row.answered_at = said, act.now
        unit.session.add(row)
        after = {"finding": row.title, "answer": said}
        unit.enter("finding.answered", _subject(row, client), after=after)
        unit.session.flush()
        return _views(unit.session, [(row, client.name)], act.now)[0]


def _find(session: Session, directory: Directory, finding_id: UUID) -> tuple[FindingRow, ClientRow]:
    found = findings.finding_by_id(session, directory.id, finding_id)
    if found is None:
        raise NotFound(f"There is no finding {finding_id}.", next_step="See the audit.")
    return found


def _subject(row: FindingRow, client: ClientRow) -> dict[str, str]:
    return {"kind": "finding", "id": str(row.id), "name": row.rule, "client": client.id, "client_name": client.name}


def _worst(found: Reported) -> tuple[bool, int, str, str, str]:
    waived = found.waived_until is not None
    return waived, -found.severity, found.rule, found.client_name.casefold(), found.subject


def _views(session: Session, rows: Sequence[tuple[FindingRow, str]], now: datetime) -> list[KeptFinding]:
    names = people.names_of(session, (row.assigned_to for row, _ in rows))
    return [
        kept_of(
            _reported(row, name, names, now),
            id=row.id,
            resolved_at=row.resolved_at,
            assigned_at=row.assigned_at,
            assigned_by=row.assigned_by,
            answered_at=row.answered_at,
        )
        for row, name in rows
    ]


def _reported(row: FindingRow, name: str, names: Mapping[UUID | None, str], now: datetime) -> Reported:
    waived = row.waived(now)
    return Reported(
        rule=row.rule,
        client_id=row.client_id,
        client_name=name,
        subject=row.subject,
        severity=Severity(row.severity),
        title=row.title,
        evidence=row.evidence,
        remedy=row.remedy,
        act=RemedyKind(row.act),
        target=row.target,
        first_seen_at=row.first_seen_at,
        returned=row.returned,
        waived_until=row.waived_until if waived else None,
        waived_by=row.waived_by if waived else "",
        waived_reason=row.waived_reason if waived else "",
        assigned_to=names[row.assigned_to],
        note=row.note,
        answer=row.answer,
    )
