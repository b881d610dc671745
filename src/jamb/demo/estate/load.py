"""Put a planned estate into a database, as a directory of its own, by copying its records."""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator
from dataclasses import replace
from datetime import datetime, timedelta
from typing import Any
from uuid import UUID

import psycopg
from sqlmodel import Session

from jamb.actions.base.act import Act
from jamb.actions.base.backend import Backend
from jamb.actions.base.lookups import find_directory
from jamb.actions.directory import directories
from jamb.actions.resources import resources
from jamb.core.clients.clients import look_of
from jamb.core.clients.logos import bands_of
from jamb.core.directory.policy import DirectoryPolicy
from jamb.core.errors import Conflict
from jamb.core.reach import CollectionTree
from jamb.demo.estate.plan import Estate
from jamb.demo.estate.records import DAY, DOMAIN, Client, Dice, Use, at
from jamb.store.base.work import Actor
from jamb.store.directory import sums
from jamb.store.directory.roles import role_by_name
from jamb.store.resources.resources import resources_of

POLICY = replace(DirectoryPolicy(), secret_heaviest_weight=100)
_MAKER = Actor("service", "estate", "Estate generator", "Estate generator")


def load_estate(backend: Backend, url: str, slug: str, estate: Estate, now: datetime, days: int = 100) -> None:
    """Open a directory and put the estate into it, each client used on so many days.

    Raises:
        NameTaken: there is a directory of this short name already. Conflict: this very estate is there already.
    """
    with psycopg.connect(url) as connection:
        first = estate.clients[0].id
        if connection.execute("select 1 from client where id = %s", [first]).fetchone() is not None:
            raise Conflict(
                "An estate of this seed and size is in this database already.", next_step="Choose another seed or size."
            )
    opened = directories.open_directory(
        backend, slug, f"Estate {estate.seed}", DOMAIN, POLICY, _MAKER, now - timedelta(days=900)
    )
    for catalogue in estate.catalogues.values():
        resources.publish(Act(backend, opened, _MAKER, now - timedelta(days=899)), catalogue)
    for name, collections in estate.collections.items():
        tree = CollectionTree.of(collections)
        resources.replace_collections(Act(backend, opened, _MAKER, now - timedelta(days=898)), name, tree)
    with Session(backend.engine) as session:
        directory = find_directory(session, slug)
        places = {row.name: row.id for row in resources_of(session, directory.id)}
        steward = role_by_name(session, directory.id, "steward")
        assert steward is not None
        steward_id = steward.id
    dice = Dice(f"records of {estate.clients[0].id}")
    with psycopg.connect(url) as connection:
        # What is copied is looked at anew as a whole: a note for each row would only say so again.
        connection.execute("set session_replication_role = replica")
        writer = _Writer(connection, directory.id, places, estate, dice, now)
        writer.people(steward_id)
        writer.clients()
        writer.credentials()
        writer.grants()
        writer.uses(days)
        writer.around()
        connection.execute("set session_replication_role = origin")
        connection.execute(
            "insert into audit_stale (client_id) select id from client where directory_id = %s", [directory.id]
        )
        connection.commit()
        with Session(backend.engine) as session:
            sums.count_anew(session, directory.id)
            session.commit()
        connection.autocommit = True
        connection.execute("analyze")


class _Writer:
    def __init__(
        self,
        connection: psycopg.Connection[Any],
        directory_id: UUID,
        places: dict[str, UUID],
        estate: Estate,
        dice: Dice,
        now: datetime,
    ) -> None:
        self.connection, self.directory_id, self.places = connection, directory_id, places
        self.estate, self.dice, self.now = estate, dice, now

    def copy(self, into: str, rows: Iterable[tuple[Any, ...]]) -> None:
        with self.connection.cursor() as cursor, cursor.copy(f"copy {into} from stdin".encode()) as copy:
            for row in rows:
                copy.write_row(row)

    def people(self, steward_id: UUID) -> None:
        """Write people; the strong ones hold everything here, by a role of each resource."""
        self.copy(
            "person (id, directory_id, login, name, active, created_at)",
            (
                (one.id, self.directory_id, one.login, one.name, one.live, at(self.now, 900))
                for one in self.estate.people
            ),
        )
        roles = {name: self.dice.uuid() for name in self.estate.catalogues}
        self.copy(
            "role (id, directory_id, resource_id, name, title, permissions, shipped)",
            (
                (
                    roles[name],
                    self.directory_id,
                    self.places[name],
                    f"{name}-master",
                    "",
                    sorted(one.permissions),
                    False,
                )
                for name, one in self.estate.catalogues.items()
            ),
        )
        self.roles = roles
        strong = [one for one in self.estate.people if one.strong]
        self.copy(
            "role_assignment (id, role_id, person_id, assigned_at, assigned_by)",
            (
                (self.dice.uuid(), role_id, one.id, at(self.now, 890), "estate")
                for one in strong
                for role_id in (*roles.values(), steward_id)
            ),
        )

    def clients(self) -> None:
        self.copy(
            "client (id, directory_id, name, folded_name, look, purpose, kind, state, builtin, registered_at,"
            " registered_by, redirect_uris, publisher, trial_ends_at, logo)",
            (
                (
                    one.id,
                    self.directory_id,
                    one.name,
                    one.name.casefold(),
                    look_of(one.name),
                    one.purpose,
                    one.kind,
                    one.state,
                    False,
                    at(self.now, one.registered),
                    "estate",
                    one.redirects,
                    one.publisher,
                    at(self.now, one.trial) if one.trial is not None else None,
                    f"{one.logo:064x}" if one.logo else "",
                )
                for one in self.estate.clients
            ),
        )
        self.copy(
            "client_logo (client_id, directory_id, digest, look, bands, image)",
            (
                (one.id, self.directory_id, f"{one.logo:064x}", one.logo, bands_of(one.logo), b"")
                for one in self.estate.clients
                if one.logo
            ),
        )
        self.copy(
            "client_redirect (client_id, address, since, last_at)",
            (
                (one.id, address, at(self.now, one.registered), at(self.now, 1) if one.answered else None)
                for one in self.estate.clients
                for address in one.redirects
            ),
        )
        self.copy(
            "client_grant_type (client_id, grant_type, last_at)",
            ((one.id, name, at(self.now, 1)) for one in self.estate.clients for name in one.got_by),
        )
        self.copy(
            "client_owner (client_id, person_id, level)",
            (
                (one.id, self.estate.people[place].id, "full")
                for one in self.estate.clients
                for place in dict.fromkeys(one.owners)
            ),
        )

    def credentials(self) -> None:
        self.copy(
            "credential (id, client_id, directory_id, kind, hint, label, digest, keys, key_thumbprints, issuer,"
            " subject, keys_uri, issued_at, issued_by, expires_at, withdrawn_at, first_used_at, last_used_at)",
            (
                (
                    held.id,
                    one.id,
                    self.directory_id,
                    held.kind,
                    held.hint,
                    "",
                    self.dice.randbytes(32) if held.kind == "secret" else None,
                    _document(held.keys),
                    [key["kid"] for key in held.keys] if held.keys is not None else None,
                    "",
                    "",
                    "",
                    at(self.now, held.issued),
                    "estate",
                    self._moment(held.ends, ahead=True),
                    self._moment(held.withdrawn),
                    self._moment(held.used),
                    self._moment(held.used),
                )
                for one in self.estate.clients
                for held in one.credentials
            ),
        )
        self.copy(
            "rotation (id, directory_id, client_id, old_id, new_id, opened_at, opened_by, overlap_ends_at,"
            " quiet_seconds, ended_by, forced)",
            (
                (
                    one.rotation[0],
                    self.directory_id,
                    one.id,
                    one.rotation[1],
                    one.rotation[2],
                    at(self.now, 30),
                    "estate",
                    at(self.now, 10),
                    3 * 86_400,
                    "",
                    False,
                )
                for one in self.estate.clients
                if one.rotation is not None
            ),
        )
        self.copy(
            "attempt (directory_id, client_id, at, day, outcome, hint, resource, detail, address, user_agent)",
            (
                (
                    self.directory_id,
                    one.id,
                    at(self.now, 2),
                    at(self.now, 2).date(),
                    outcome,
                    hint,
                    "",
                    "",
                    "192.0.2.7",
                    "estate",
                )
                for one in self.estate.clients
                for outcome, hint in (
                    *(("secret-withdrawn", hint) for hint in one.dead_tries),
                    *((outcome, "") for outcome in one.replays),
                )
            ),
        )

    def _moment(self, days: float | None, *, ahead: bool = False) -> datetime | None:
        if days is None:
            return None
        return self.now + days * DAY if ahead else self.now - days * DAY

    def grants(self) -> None:
        self.copy(
            "consent (id, client_id, resource_id, permission, kind, granted_at, granted_by, reach, person_id,"
            " by_person)",
            (
                (
                    self.dice.uuid(),
                    one.id,
                    self.places[held.resource],
                    held.permission,
                    held.kind,
                    at(self.now, held.granted),
                    "estate",
                    _document(held.reach),
                    held.person,
                    held.person is not None,
                )
                for one in self.estate.clients
                for held in one.grants
                if held.consented
            ),
        )
        self.copy(
            "ask (id, client_id, resource_id, permission, kind, reason, asked_at, asked_by, asked_by_id)",
            (
                (
                    self.dice.uuid(),
                    one.id,
                    self.places[held.resource],
                    held.permission,
                    held.kind,
                    "",
                    at(self.now, held.asked),
                    "estate",
                    "",
                )
                for one in self.estate.clients
                for held in one.grants
                if held.asked is not None
            ),
        )
        self.copy(
            "role_assignment (id, role_id, client_id, assigned_at, assigned_by)",
            (
                (self.dice.uuid(), self.roles[one.role.removesuffix("-master")], one.id, at(self.now, 5), "estate")
                for one in self.estate.clients
                if one.role
            ),
        )

    def uses(self, days: int) -> None:
        """Write use: every client on so many days, each of its operations by turns, the last time as planned."""
        self.copy(
            "usage (client_id, resource_id, operation, kind, day, calls, last_at)",
            (row for one in self.estate.clients for row in self._uses_of(one, days)),
        )
        self.copy(
            "object_use (client_id, resource_id, operation, object, last_at)",
            (
                (one.id, self.places[use.resource], use.operation, name, at(self.now, use.last))
                for one in self.estate.clients
                for use in one.uses
                for name in use.objects
            ),
        )
        self.copy(
            "person_use (client_id, resource_id, operation, person_id, last_at)",
            (
                (one.id, self.places["yard"], "see", self.estate.people[place].id, at(self.now, 3))
                for one in self.estate.clients
                for place in one.acts_for
            ),
        )

        self.copy(
            "client_network (client_id, network, first_at, last_at)",
            (
                (one.id, network, at(self.now, first), at(self.now, 0.01))
                for one in self.estate.clients
                for network, first in one.networks
            ),
        )

    def _uses_of(self, client: Client, days: int) -> Iterator[tuple[Any, ...]]:
        turns = max(days // max(len(client.uses), 1), 1)
        for use in client.uses:
            for turn in range(turns):
                yield self._use(client, use, use.last + turn * (days / turns))
        for days_ago, calls in client.calls.items():
            # Something that it may do, and is not counted on the same day already.
            last = at(self.now, days_ago)
            yield (client.id, self.places["yard"], "move", "application", last.date(), calls, last)

    def _use(self, client: Client, use: Use, days_ago: float) -> tuple[Any, ...]:
        last = at(self.now, days_ago)
        return (client.id, self.places[use.resource], use.operation, use.kind, last.date(), 5, last)

    def around(self) -> None:
        self.copy(
            "publisher (directory_id, domain, vouched_at, vouched_by, reason)",
            ((self.directory_id, one, at(self.now, 100), "estate", "Known here") for one in self.estate.vouched),
        )


def _document(value: object) -> str | None:
    return json.dumps(value) if value is not None else None
