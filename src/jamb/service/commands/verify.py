"""Look through a whole database, as one does with a restored copy: keys, ledgers, how much there is, and until when."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime
from typing import NamedTuple

from sqlmodel import Session

from jamb.actions.base.act import act_in
from jamb.actions.base.backend import Backend
from jamb.actions.directory.ledger import verify_ledger
from jamb.core.errors import Misuse
from jamb.store.directory import counts, directories, ledger


class Verified(NamedTuple):
    """One directory. `fault`: what is wrong; empty: nothing. `until`: the moment of its last change."""

    slug: str
    entries: int
    clients: int
    people: int
    until: datetime
    fault: str


def verified(backend: Backend, now: datetime) -> Iterator[Verified]:
    """Look at each directory: its ledger from the first entry to the head, and that its keys open."""
    with Session(backend.engine) as session:
        rows = directories.all_directories(session)
    for row in rows:
        act = act_in(backend, row.slug, now)
        found = verify_ledger(act)
        fault = f"entry {found.fault.sequence}: {found.fault.what}" if found.fault is not None else ""
        with act.read() as session:
            clients, people = counts.clients_in(row.id).of(session), counts.people_in(session, row.id)
            until = ledger.last_entry_at(session, row.id) or row.created_at
            for key in directories.signing_keys(session, row.id):
                try:
                    backend.sealer.open(key.sealed, f"{row.id}/{key.kid}")
                except Misuse:
                    fault = fault or f"signing key {key.kid} does not open"
        yield Verified(row.slug, found.entries, clients, people, until, fault)
