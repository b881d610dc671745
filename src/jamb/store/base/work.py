"""One unit of work: a transaction with its ledger entries. There is no other way to change a record."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from datetime import datetime
from hmac import compare_digest
from typing import Any, NamedTuple

from sqlalchemy import Connection, Engine, event, text
from sqlalchemy.exc import IntegrityError
from sqlmodel import Session

from jamb.core.directory.directories import Directory
from jamb.core.errors import Conflict, JambError, Misuse, NeedsAgreement, Refusal, Unsuited
from jamb.core.ledger import Entry, chained, seal_of
from jamb.store.base.actor import Actor, Once
from jamb.store.base.idempotency import OnceRow, refuse_repeated
from jamb.store.base.sealing import Sealer
from jamb.store.connections.outages import committing
from jamb.store.consent import agreements
from jamb.store.directory import ledger
from jamb.store.resources.taking_effect import Opened, Taking, count_from

__all__ = ["Actor", "Once", "Unit", "check_reason", "keep_waiting", "observation", "rehearsal", "unit_of_work"]


class _Noted(NamedTuple):
    """A change as the ledger will keep it, until it is chained."""

    action: str
    subject: Mapping[str, str]
    before: Mapping[str, Any] | None
    after: Mapping[str, Any] | None
    reason: str


@dataclass
class Unit:
    """An open transaction: who changes something in which directory, and when.

    `enter` notes a change for the ledger; entries are chained when the unit commits.
    """

    session: Session
    sealer: Sealer
    directory: Directory
    actor: Actor
    now: datetime
    # Clients of which something was taken away.
    narrowed: set[str] = field(default_factory=set)
    _entries: list[_Noted] = field(default_factory=list)

    def enter(
        self,
        action: str,
        subject: Mapping[str, str],
        *,
        before: Mapping[str, Any] | None = None,
        after: Mapping[str, Any] | None = None,
        reason: str = "",
    ) -> None:
        """Note one change. Raises `BadInput` where its reason is longer than the ledger keeps."""
        check_reason(reason)
        self._entries.append(_Noted(action, dict(subject), before, after, reason))

    @contextmanager
    def constraint(self, name: str, error: Callable[[], JambError]) -> Iterator[None]:
        """Flush what the block adds; a violation of the named constraint becomes the given error."""
        try:
            yield
            self.session.flush()
        except IntegrityError as violated:
            diagnosis = getattr(violated.orig, "diag", None)
            if getattr(diagnosis, "constraint_name", None) == name:
                raise error() from violated
            raise

    @contextmanager
    def attempt(self) -> Iterator[None]:
        """Do a part that is undone alone where it raises: what the block changed, and what it entered."""
        before = len(self._entries)
        try:
            with self.session.begin_nested():
                yield
        except BaseException:
            del self._entries[before:]
            raise

    def _note_once(self) -> None:
        """Keep the key that the change bears, with what was changed. Of two at the same time one is undone whole."""
        if self.actor.once is None:
            return
        with self.constraint("done_once_key", _being_done):
            self.session.add(
                OnceRow(
                    directory_id=self.directory.id,
                    actor_id=self.actor.id,
                    key=self.actor.once.key,
                    request=self.actor.once.request,
                    made=dict(self._entries[0].subject),
                    at=self.now,
                )
            )

    def close_ledger(self) -> None:
        """Chain the noted entries. The head's lock comes last in every unit, and is held only until the commit."""
        if not self._entries:
            return
        self._note_once()
        self.session.flush()
        head = ledger.head(self.session, self.directory.id, lock=True)
        if head is None:
            raise Misuse(f"directory {self.directory.id} has no ledger")
        if not compare_digest(head.seal, seal_of(self.sealer.ledger_key, head.sequence, head.hash)):
            # To write on would seal a chain anew that was altered, or that another key sealed.
            raise Misuse(
                "the sealing key is not the one that sealed this directory's ledger, or the ledger was altered; "
                "start with the JAMB_SEALING_KEY (or JAMB_HOME) that it was made with, then have the ledger verified"
            )
        rows = []
        for action, subject, before, after, reason in self._entries:
            sequence = head.sequence + 1
            entry = Entry(sequence, self.now, self.actor.record(), action, subject, before, after, reason)
            digest = chained(head.hash, entry)
            rows.append(
                {
                    "directory_id": self.directory.id,
                    "sequence": sequence,
                    "at": self.now,
                    "actor": dict(entry.actor),
                    "action": action,
                    "subject": dict(subject),
                    "before": dict(before) if before is not None else None,
                    "after": dict(after) if after is not None else None,
                    "reason": reason,
                    "hash": digest,
                }
            )
            head.sequence, head.hash = sequence, digest
        head.seal = seal_of(self.sealer.ledger_key, head.sequence, head.hash)
        ledger.append(self.session, rows)
        self._entries.clear()


Bind = Engine | Connection
Clock = Callable[[], datetime]
_NOW = text("select set_config('jamb.now', :now, true)")


@contextmanager
def unit_of_work(
    bind: Bind, sealer: Sealer, directory: Directory, actor: Actor, now: datetime, clock: Clock | None = None
) -> Iterator[Unit]:
    """Open a unit; commit it with its ledger entries when the block ends, undo everything if it raises.

    What needs another person's yes is undone, and kept at the consent desk in a unit of its own.

    Args:
        clock: by which it is known when the change could be seen; None: at its own moment.

    Raises:
        Misuse: something was changed and nothing was entered in the ledger.
    """
    try:
        opened = max(now, clock()) if clock is not None else now
        with _open_unit(bind, sealer, directory, actor, now, opened) as unit:
            yield unit
        if clock is not None:
            count_from(bind, Taking(now, unit.narrowed, Opened(directory.id, opened)), clock())
    except NeedsAgreement as error:
        if not isinstance(error.waits, agreements.Waiting):
            raise
        raise keep_waiting(bind, sealer, directory, error) from None


def keep_waiting(bind: Bind, sealer: Sealer, directory: Directory, error: NeedsAgreement) -> NeedsAgreement:
    """Keep at the consent desk what needs another person's yes; return the error that says so."""
    waits = error.waits
    assert isinstance(waits, agreements.Waiting)
    with _open_unit(bind, sealer, directory, replace(waits.actor, once=None), waits.now, waits.now) as unit:
        row, fresh = agreements.keep(unit.session, directory.id, waits)
        if fresh:
            wanted = waits.proposal
            subject = {"kind": "request", "id": str(row.id), "name": wanted.subject}
            if wanted.client_id is not None:
                subject["client"] = wanted.client_id
            after = {"act": row.reason, "weight": wanted.weight, "why": wanted.why, "due": row.due_at.isoformat()}
            unit.enter("agreement.requested", subject, after=after)
        return agreements.said(error, row, waits)


@contextmanager
def rehearsal(bind: Bind, sealer: Sealer, directory: Directory, actor: Actor, now: datetime) -> Iterator[Unit]:
    """Open a unit in which everything is as if it was done, and nothing is kept."""
    with Session(bind, expire_on_commit=False) as session:
        yield Unit(session, sealer, directory, actor, now)
        session.rollback()


@contextmanager
def _open_unit(
    bind: Bind, sealer: Sealer, directory: Directory, actor: Actor, now: datetime, opened: datetime
) -> Iterator[Unit]:
    changed = False

    def note(session: Session, *_: object) -> None:
        nonlocal changed
        changed = changed or bool(session.new or session.dirty or session.deleted)

    with Session(bind, expire_on_commit=False) as session:
        event.listen(session, "before_flush", note)
        unit = Unit(session, sealer, directory, actor, now)
        # By which triggers note a moment: tokens are made by the same clock.
        session.execute(_NOW, {"now": opened.isoformat()})
        try:
            yield unit
            session.flush()
            if changed and not unit._entries:  # noqa: SLF001 - the unit's own opener
                raise Misuse("a change without a ledger entry was about to be committed")
            unit.close_ledger()
        except Refusal:
            # Of two that bear the same key at the same moment, the later meets what the other has made: a name that is
            # taken, a state that has changed. Its answer is that it was done.
            session.rollback()
            refuse_repeated(session, directory.id, actor)
            raise
        with committing(actor.once):
            session.commit()


REASON_LONGEST = 500


def check_reason(reason: str, field: str = "reason") -> None:
    """Raise `BadInput` where words for the ledger are longer than it keeps."""
    if len(reason) > REASON_LONGEST:
        raise Unsuited.field(field, f"{len(reason)} characters", f"at most {REASON_LONGEST} characters")


def _being_done() -> Conflict:
    return Conflict(
        "A request with the same Idempotency-Key was done at the same moment. Nothing was changed by this one.",
        next_step="Send it again to learn what the other made.",
    )


@contextmanager
def observation(bind: Bind) -> Iterator[Session]:
    """Open a transaction for what is observed rather than decided (usage, sessions, tries): no ledger entry."""
    with Session(bind, expire_on_commit=False) as session:
        yield session
        with committing():
            session.commit()
