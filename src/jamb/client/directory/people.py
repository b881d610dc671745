"""People, groups and roles of Jamb's API, each with its verbs."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import datetime

from jamb.client.base.section import Section, match_header, path_segment
from jamb.core.directory.roles import HolderKind
from jamb.core.directory.sign_in_links import DEFAULT_HOURS
from jamb.wire.directory.people import PeopleImported, Person
from jamb.wire.directory.roles import Assignment, ClientGain, Group, Role, RoleSent
from jamb.wire.directory.sign_in_links import SignInLink
from jamb.wire.resources.reach import ReachSent


class People(Section):
    def list(self, *, q: str = "", active: bool | None = None) -> Iterator[Person]:
        """Yield the people by name.

        Args:
            q: part of the name or login. active: only those who may act, or only those who may not.
        """
        return self._transport.pages(Person, "/people", {"q": q, "active": active, "limit": 100})

    def add(self, login: str, name: str, *, roles: Sequence[str] = ()) -> Person:
        """Add a person. They can sign in once they chose a password by a link: see `link`."""
        body = {"login": login, "name": name, "roles": [*roles]}
        return self._transport.one(Person, "POST", "/people", json=body)

    def load(self, csv: str, *, dry_run: bool = False) -> PeopleImported:
        """Add the people of a CSV file with the columns login, name and, separated by semicolons, groups and roles."""
        return self._transport.one(PeopleImported, "POST", "/people/import", json={"csv": csv, "dry_run": dry_run})

    def link(self, person: str, *, hours: int = DEFAULT_HOURS, mailed: bool = False) -> SignInLink:
        """Make a one-time link by which a person chooses a password; earlier links of theirs open nothing any more.

        Args:
            mailed: it goes to their login as a mail address, and the answer does not have it.
        """
        body = {"hours": hours, "mailed": mailed}
        return self._transport.one(SignInLink, "POST", f"/people/{path_segment(person)}/sign-in-links", json=body)

    def change(
        self,
        person: str,
        *,
        name: str | None = None,
        active: bool | None = None,
        no_second_factor: bool = False,
        no_provider: bool = False,
    ) -> Person:
        """Change a person (login or id): their name, whether they may act, or take off a second factor they lost.

        Args:
            no_provider: whom outside providers mean by them is forgotten, and they are signed out.
        """
        body = {"name": name, "active": active, "no_second_factor": no_second_factor, "no_provider": no_provider}
        return self._transport.one(Person, "POST", f"/people/{path_segment(person)}", json=body)


class Groups(Section):
    def list(self, *, q: str | None = None) -> Iterator[Group]:
        """Yield all groups by name, over all pages; `q`: part of a name or title."""
        return self._transport.pages(Group, "/groups", {"q": q, "limit": 100})

    def save(
        self,
        name: str,
        *,
        title: str = "",
        people: Sequence[str] = (),
        groups: Sequence[str] = (),
        if_match: str | None = None,
    ) -> Group:
        """Make a group, or put these members in place of those it has.

        Args:
            if_match: the `version` that you saw; if it is another now, `Outdated` is raised and nothing is changed.
        """
        body, path = {"title": title, "people": [*people], "groups": [*groups]}, f"/groups/{path_segment(name)}"
        return self._transport.one(Group, "PUT", path, json=body, headers=match_header(if_match))

    def remove(self, name: str) -> None:
        self._transport.send("DELETE", f"/groups/{path_segment(name)}")


class Roles(Section):
    def list(self) -> Sequence[Role]:
        """Return the roles, shipped ones first, each with the first of its holders: see `holders`."""
        return self._transport.many(Role, "GET", "/roles")

    def holders(self, name: str, *, q: str = "") -> Iterator[Assignment]:
        """Yield who holds a role: groups, people, clients, each by name. `q`: part of a name or login."""
        return self._transport.pages(Assignment, f"/roles/{path_segment(name)}/holders", {"q": q, "limit": 100})

    def save(self, name: str, role: RoleSent, *, if_match: str | None = None) -> Role:
        """Make a custom role, or change what one bundles.

        Args:
            if_match: the `version` that you saw; if it is another now, `Outdated` is raised and nothing is changed.
        """
        body, path = role.model_dump(mode="json"), f"/roles/{path_segment(name)}"
        return self._transport.one(Role, "PUT", path, json=body, headers=match_header(if_match))

    def remove(self, name: str) -> None:
        self._transport.send("DELETE", f"/roles/{path_segment(name)}")

    def assign(
        self,
        name: str,
        kind: HolderKind,
        holders: Sequence[str],
        *,
        reach: ReachSent | None = None,
        expires_at: datetime | None = None,
    ) -> Role:
        """Assign a role to people, groups or clients, over any number of collections in one step."""
        body = {
            "kind": kind.value,
            "holders": [*holders],
            "reach": reach.model_dump(mode="json") if reach is not None else None,
            "expires_at": expires_at.isoformat() if expires_at is not None else None,
        }
        return self._transport.one(Role, "POST", f"/roles/{path_segment(name)}/assignments", json=body)

    def preview(
        self,
        name: str,
        client_ids: Sequence[str],
        *,
        reach: ReachSent | None = None,
        expires_at: datetime | None = None,
    ) -> Sequence[ClientGain]:
        """Return what a role would let clients do that they cannot do yet, and who else must agree."""
        body = {
            "clients": [*client_ids],
            "reach": reach.model_dump(mode="json") if reach is not None else None,
            "expires_at": expires_at.isoformat() if expires_at is not None else None,
        }
        return self._transport.many(ClientGain, "POST", f"/roles/{path_segment(name)}/assignments/preview", json=body)

    def withdraw(self, name: str, kind: HolderKind, holders: Sequence[str]) -> Role:
        body = {"kind": kind.value, "holders": [*holders]}
        return self._transport.one(Role, "POST", f"/roles/{path_segment(name)}/assignments/withdrawal", json=body)
