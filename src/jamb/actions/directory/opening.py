"""What whoever runs the service does with directories: open one with its first steward, list, suspend, rename."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

from sqlmodel import Session

from jamb.actions.base.act import Act, act_in
from jamb.actions.base.all_directories import OPERATOR
from jamb.actions.base.backend import Backend
from jamb.actions.base.lookups import stewards_who_sign_in
from jamb.actions.directory import directories, people, roles, sign_in_links
from jamb.core import own_api
from jamb.core.clients.clients import DOMAIN, tidy_domain
from jamb.core.directory.people_list import check_person
from jamb.core.directory.policy import DirectoryPolicy
from jamb.core.directory.roles import HolderKind, check_short_name
from jamb.core.errors import BadInput, Conflict, Unsuited
from jamb.core.reach import EVERYWHERE
from jamb.store.base.sealing_marks import any_directory
from jamb.store.directory import directories as rows
from jamb.store.directory import people as people_rows
from jamb.store.directory import roles as role_rows
from jamb.store.directory import second_factors
from jamb.wire.directory.sign_in_links import SignInLink

NAME_LONGEST = 120


@dataclass(frozen=True, slots=True)
class NewDirectory:
    """`slug`: its short name, in addresses. `domain`: of the organisation; people's logins end with it."""

    slug: str
    name: str
    domain: str


@dataclass(frozen=True, slots=True)
class Listed:
    """A directory as the operator lists it."""

    slug: str
    name: str
    domain: str
    opened_at: datetime
    suspended_at: datetime | None
    stewards: tuple[str, ...]


def directories_there(backend: Backend) -> bool:
    with Session(backend.engine) as session:
        return any_directory(session)


def open_with_steward(
    backend: Backend, wanted: NewDirectory, login: str, name: str, hours: int, now: datetime
) -> SignInLink:
    """Open a directory, add its first steward, and return the link by which they choose their password.

    Raises:
        BadInput: a name, domain or login that does not fit, before anything is done. NameTaken: there is one.
    """
    place = _tidied(wanted)
    login, name = login.strip().lower(), " ".join(name.split())
    check_person(login, name)
    directories.open_directory(backend, place.slug, place.name, place.domain, DirectoryPolicy(), OPERATOR, now)
    return make_steward(backend, place.slug, login, name, hours, now)


def make_steward(backend: Backend, slug: str, login: str, name: str, hours: int, now: datetime) -> SignInLink:
    """Make somebody steward of a directory without one that can sign in; or give a steward a new link.

    A second factor of theirs is taken off: they may have lost it.

    Raises:
        Conflict: another steward can sign in: they can do it themself. NotFound: there is no such directory.
    """
    act = _act(backend, slug, now)
    login = login.strip().lower()
    with act.read() as session:
        person = people_rows.by_login(session, act.directory.id, login)
        others = [steward for steward in stewards_who_sign_in(session, act.directory, now) if steward.login != login]
        held = role_rows.role_names(session, act.directory.id, now, person.id) if person is not None else {}
        is_steward = person is not None and own_api.STEWARD in held.get(person.id, ())
        with_factor = person is not None and second_factors.is_set(session, person.id)
    if others and not is_steward:
        raise Conflict(
            f"{act.directory.name} has a steward who can sign in: {others[0].name} ({others[0].login}).",
            next_step="Ask them: a steward adds people and makes sign-in links.",
        )
    if person is None:
        people.add_person(act, login, " ".join(name.split()) or login, [own_api.STEWARD])
    elif not is_steward:
        roles.assign_role(act, own_api.STEWARD, HolderKind.PERSON, [login], EVERYWHERE, None)
    if with_factor:
        # Who cannot sign in may have lost that; nobody else here could take it off.
        people.change_person(_act(backend, slug, now), login, no_second_factor=True)
    return sign_in_links.make_link(_act(backend, slug, now), login, hours, mailed=False)


def list_directories(backend: Backend, now: datetime) -> Sequence[Listed]:
    found = []
    with Session(backend.engine) as session:
        for row in rows.all_directories(session):
            able = stewards_who_sign_in(session, row.value(), now)
            stewards = tuple(sorted({steward.login for steward in able}))
            found.append(Listed(row.slug, row.name, row.domain, row.created_at, row.suspended_at, stewards))
    return found


def rename(backend: Backend, slug: str, name: str | None, domain: str | None, now: datetime) -> None:
    """Give a directory another name, or another domain by which its people sign in. Its short name stays.

    Raises:
        BadInput: nothing would change, or it does not fit.
    """
    act = _act(backend, slug, now)
    wanted = _tidied(NewDirectory(slug, name or act.directory.name, domain or act.directory.domain))
    with act.change() as unit:
        row = rows.by_slug(unit.session, slug, lock=True)
        assert row is not None
        before = {"name": row.name, "domain": row.domain}
        row.name, row.domain = wanted.name, wanted.domain
        after = {"name": row.name, "domain": row.domain}
        if after == before:
            raise Unsuited.field("name", row.name, "another name or domain than it has")
        unit.session.add(row)
        unit.enter("directory.renamed", _subject(act), before=before, after=after)


def set_suspended(backend: Backend, slug: str, reason: str, now: datetime, *, suspended: bool) -> None:
    """Suspend a directory: no sign-in, no token, no administration, until it is resumed. Nothing is taken away.

    Raises:
        Conflict: it is so already.
    """
    act = _act(backend, slug, now)
    with act.change() as unit:
        row = rows.by_slug(unit.session, slug, lock=True)
        assert row is not None
        if (row.suspended_at is not None) == suspended:
            raise Conflict(f"{row.name} is {'suspended' if suspended else 'not suspended'} already.")
        row.suspended_at = now if suspended else None
        unit.session.add(row)
        unit.enter(f"directory.{'suspended' if suspended else 'resumed'}", _subject(act), reason=reason)


def _act(backend: Backend, slug: str, now: datetime) -> Act:
    return act_in(backend, slug, now, OPERATOR)


def _subject(act: Act) -> dict[str, str]:
    return {"kind": "directory", "id": str(act.directory.id), "name": act.directory.name}


def _tidied(wanted: NewDirectory) -> NewDirectory:
    check_short_name("slug", wanted.slug)
    name = " ".join(wanted.name.split())
    if not 0 < len(name) <= NAME_LONGEST:
        raise BadInput.field("name", wanted.name[:40], f"1 to {NAME_LONGEST} characters")
    domain = tidy_domain(wanted.domain)
    if not DOMAIN.match(domain):
        raise BadInput.field("domain", wanted.domain[:80], "a domain, as quillhaven.example")
    return NewDirectory(wanted.slug, name, domain)
