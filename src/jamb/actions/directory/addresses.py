"""The public address: one for the service, on record in every directory, moved by whoever runs it.

Issuers, token endpoints and the identifier of Jamb's own API begin with it. What was made for a former address holds
for a time: tokens of Jamb's own API, requests that name it by the former identifier, assertions made for the former
issuer.
"""

from __future__ import annotations

from datetime import datetime, timedelta

from sqlalchemy import Engine
from sqlmodel import Session

from jamb.actions.base.all_directories import change_everywhere
from jamb.actions.base.backend import Backend
from jamb.actions.base.lookups import find_resource
from jamb.core import own_api
from jamb.core.errors import Conflict, Unsuited
from jamb.store.directory import addresses
from jamb.store.resources import resources

MOST_DAYS = 366


def address_fault(engine: Engine, base_url: str) -> str:
    """Return what is wrong with the address that a process was given; empty: it is the one on record."""
    with Session(engine) as session:
        known = addresses.addresses_on_record(session)
    others = sorted({*known.values()} - {base_url})
    if not others:
        return ""
    return (
        f"the directories of this database are reached at {', '.join(others)}, and JAMB_PUBLIC_URL says "
        f"{base_url}: set it to the former, or run `jamb-service directories move` with the latter"
    )


def move(backend: Backend, days: int, now: datetime) -> dict[str, str]:
    """Move every directory to the address that this process was given; return the former address of each that moved.

    Args:
        days: how long what was made for the former address holds; 0: it ends at once.

    Raises:
        Conflict: all are there already. Unsuited: `days` is out of bounds.
    """
    if not 0 <= days <= MOST_DAYS:
        raise Unsuited.field("days", str(days), f"0 to {MOST_DAYS}")
    moved: dict[str, str] = {}
    until = now + timedelta(days=days)
    with change_everywhere(backend, now) as units:
        for unit in units:
            slug = unit.directory.slug
            row = find_resource(unit.session, unit.directory, own_api.NAME)
            former = addresses.address_in(row.identifier, slug)
            if former == backend.base_url:
                continue
            moved[slug] = former
            addresses.keep_former(unit.session, former, until)
            addresses.forget_former(unit.session, backend.base_url)
            resources.replace_catalogue(unit.session, row, own_api.own_catalogue(backend.own_identifier(slug)))
            subject = {"kind": "directory", "id": str(unit.directory.id), "name": unit.directory.name}
            after = {"address": backend.base_url, "former until": until.isoformat()}
            unit.enter("directory.moved", subject, before={"address": former}, after=after)
    if not moved:
        raise Conflict(f"All directories are reached at {backend.base_url} already.", next_step="Set JAMB_PUBLIC_URL.")
    return moved


def former_addresses(backend: Backend, now: datetime) -> tuple[tuple[str, datetime], ...]:
    """Return the former addresses that hold still, the one that holds longest first."""
    with Session(backend.engine) as session:
        return addresses.former_addresses(session, now)
