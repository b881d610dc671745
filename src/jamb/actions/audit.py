"""The audit of a directory: what is wrong now, since when, what is borne knowingly, and who sees to it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from uuid import UUID

from sqlmodel import Session

from jamb.actions.premises import Directory, Premises, find_directory
from jamb.actions.sweep import MOST_FOR_A_READER, sweep
from jamb.core.audit import Act, Severity
from jamb.core.audit.reports import Reported
from jamb.core.errors import BadInput, Conflict, NotFound
from jamb.store import counts, findings, people
from jamb.store.clients import ClientRow
from jamb.store.findings import FindingRow
from jamb.store.work import Actor, unit_of_work

LONGEST_WAIVER = timedelta(days=366)
WORDS_LONGEST = 500
GONE_LATELY = timedelta(days=30)


@dataclass(frozen=True, slots=True)
class FindingView:
    """A finding with its history. `gone_at`: it was mended then."""

    id: UUID
    found: Reported
    gone_at: datetime | None
    answer: str


@dataclass(frozen=True, slots=True)
class AuditReport:
    """`left`: clients that are still to be looked at, because much changed at once."""

    directory: str
    slug: str
    at: datetime
    clients: int
    left: int
    findings: tuple[FindingView, ...]


def run_audit(premises: Premises, slug: str, now: datetime, *, with_gone: bool = False) -> AuditReport:
    """Return what is wrong now, worst first; `with_gone`: and what was mended in the last thirty days."""
    left = sweep(premises, slug, now, MOST_FOR_A_READER).left
    with Session(premises.engine) as session:
        directory = find_directory(session, slug)
        since = now - GONE_LATELY if with_gone else None
        rows = findings.findings_of(session, directory.id, gone_since=since)
        views = _views(session, rows, now)
        count = counts.clients_in(session, directory.id)
        return AuditReport(directory.name, directory.slug, now, count, left, tuple(sorted(views, key=_worst)))


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
        person = people.by_login(unit.session, login.strip()) if login.strip() else None
        if login.strip() and (person is None or person.directory_id != directory.id or not person.live):
            raise BadInput.field("person", login, "the login of a person here who may act")
        row.assigned_to, row.answer = person.id if person is not None else None, said
        unit.session.add(row)
        after = {"finding": row.title, "to": person.name if person is not None else "nobody", "note": said}
        unit.enter(actor, "finding.assigned", _subject(row, client), now=now, after=after)
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
            ),
            row.gone_at,
            row.answer,
        )
        for row, name in rows
    ]
