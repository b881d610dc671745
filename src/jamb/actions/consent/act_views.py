"""What an act that waits for another person would do, in words, as whoever decides reads it."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from datetime import datetime
from typing import Any
from uuid import UUID

from sqlmodel import Session

from jamb.actions.resources.resources import ResourceChange, change_in
from jamb.core.consent.agreements import ActKind
from jamb.core.directory.directories import Directory
from jamb.core.reach.details import reach_of
from jamb.store.consent import requests
from jamb.store.directory import people
from jamb.store.resources import earlier_catalogues, resources

MOST_NAMED = 20
Args = Mapping[str, Any]


def details_of(session: Session, row: requests.RequestRow) -> tuple[tuple[str, str], ...]:
    """Return what would be done as (label, value)."""
    args: Args = row.args or {}
    found = [(label, read(session, args)) for label, read in _DETAILS.get(ActKind(row.act), ())]
    if row.act == ActKind.POLICY.value:
        found = [(name, str(value)) for name, value in args["changes"].items()]
    return tuple((label, value) for label, value in found if value)


def change_of(session: Session, directory: Directory, row: requests.RequestRow, now: datetime) -> ResourceChange | None:
    """Return, of a catalogue that waits, what it would change and for whom, as things are now."""
    if row.act != ActKind.CATALOGUE.value or row.args is None:
        return None
    held = resources.by_name(session, directory.id, row.args["name"])
    return change_in(session, held, earlier_catalogues.catalogue_of(row.args["name"], row.args["catalogue"]), now)


def _people(session: Session, ids: Iterable[str]) -> str:
    found = people.people_by_id(session, [UUID(one) for one in ids if len(one) == _UUID_LENGTH])
    return _listed(one.name for one in found)


_UUID_LENGTH = 36


def _listed(values: Any) -> str:
    names = [values] if isinstance(values, str) else [str(one) for one in values]
    more = len(names) - MOST_NAMED
    return ", ".join(names[:MOST_NAMED]) + (f" and {more} more" if more > 0 else "")


def _of(name: str, missing: str = "") -> Callable[[Session, Args], str]:
    """Return what reads one of the kept values, as text."""
    return lambda _session, args: _listed(args.get(name) or []) or missing


def _named(name: str, missing: str = "") -> Callable[[Session, Args], str]:
    """Return what reads the names of people by their ids."""
    return lambda session, args: _people(session, args.get(name) or []) or missing


def _counts(_session: Session, args: Args) -> str:
    return reach_of(args["reach"]).words


def _paths(_session: Session, args: Args) -> str:
    return _listed([path for path, *_ in args["collections"]])


_Details = tuple[tuple[str, Callable[[Session, Args], str]], ...]
_DETAILS: Mapping[ActKind, _Details] = {
    ActKind.OWNERS: (
        ("New owners", _named("add")),
        ("Their level", _of("level")),
        ("No longer owners", _named("remove")),
    ),
    ActKind.CREDENTIAL: (
        ("Who could act as it", _named("for", "whoever asks: they see it, or chose its key")),
        ("Issuer", _of("issuer")),
        ("Subject", _of("subject")),
        ("Address of its keys", _of("keys_uri")),
        ("Keys", _of("keys")),
    ),
    ActKind.REDIRECTS: (("Redirect URIs", _of("redirect_uris")),),
    ActKind.ROLE: (("Role", _of("role")), ("Where it counts", _counts), ("Until", _of("until", "no expiry"))),
    ActKind.BUNDLE: (("Role", _of("name")), ("Would bundle", _of("permissions"))),
    ActKind.GROUP: (
        ("Group", _of("name")),
        ("People", _of("people")),
        ("Groups in it", _of("groups")),
    ),
    ActKind.PERSON: (("What", _of("what", "added")), ("Roles", _of("roles")), ("Joining", _of("joining"))),
    ActKind.REACH: (("Resource", _of("resource")), ("Permissions", _of("permissions")), ("Would count", _counts)),
    ActKind.COLLECTIONS: (("Collections", _paths),),
}
