"""Put an estate into a database, row by row as the service would have left it, and read what the audit found."""

from __future__ import annotations

import json
from collections.abc import Iterable
from dataclasses import replace
from datetime import datetime
from random import Random
from secrets import token_bytes
from typing import Any
from uuid import UUID, uuid4

import psycopg
from sqlmodel import Session

from jamb.actions.base.act import Act
from jamb.actions.base.backend import Backend
from jamb.actions.directory import directories
from jamb.actions.resources import resources
from jamb.core.clients import logos
from jamb.core.clients.clients import look_of
from jamb.core.directory.directories import Directory
from jamb.core.directory.policy import DirectoryPolicy
from jamb.core.permissions import AccessKind, Catalogue, DataClass, Effect, Operation, Permission
from jamb.core.reach import Collection, CollectionTree
from jamb.store.base.work import Actor
from jamb.store.directory import sums
from tests.oracle.draw import public_key
from tests.oracle.facts import DAY, POLICY, Estate, Held, Reach, Resource

_MAKER = Actor("service", "truth", "Truth", "Truth")


def load(backend: Backend, url: str, slug: str, estate: Estate, now: datetime) -> Directory:
    policy: Any = POLICY
    opened = directories.open_directory(
        backend, slug, f"Truth {slug}", estate.domain, replace(DirectoryPolicy(), **policy), _MAKER, now - 900 * DAY
    )
    for resource in estate.resources.values():
        if resource.name != "jamb":
            resources.publish(Act(backend, opened, _MAKER, now - 899 * DAY), _catalogue(resource))
        if resource.collections:
            tree = CollectionTree.of(
                Collection(path, path, frozenset(objects)) for path, objects in resource.collections.items()
            )
            resources.replace_collections(Act(backend, opened, _MAKER, now - 898 * DAY), resource.name, tree)
    with psycopg.connect(url) as connection:
        connection.execute("set session_replication_role = replica")
        _Writer(connection, opened.id, estate, now).write()
        connection.execute("set session_replication_role = origin")
        connection.execute(
            "insert into audit_stale (client_id) select id from client where directory_id = %s", [opened.id]
        )
        connection.commit()
        with Session(backend.engine) as session:
            sums.count_anew(session, opened.id)
            session.commit()
        connection.autocommit = True
        connection.execute("analyze")
    return opened


def found(url: str, directory_id: UUID) -> set[tuple[str, str, str, str]]:
    """Return rule, client, subject and severity of every finding that is open."""
    words = {1: "low", 2: "medium", 3: "high"}
    with psycopg.connect(url) as connection:
        rows = connection.execute(
            "select rule, client_id, subject, severity from finding where directory_id = %s and resolved_at is null",
            [directory_id],
        ).fetchall()
    return {(rule, client, subject, words[severity]) for rule, client, subject, severity in rows}


def _catalogue(one: Resource) -> Catalogue:
    path = "/{box}" if one.collections else ""
    return Catalogue.of(
        one.name,
        one.name.title(),
        f"https://{one.name}.truth.example",
        [
            Operation(
                name, name, "GET", f"/{name}" + (path if it.on_object else ""), Effect(it.effect), DataClass(it.data)
            )
            for name, it in one.operations.items()
        ],
        [
            Permission(name, name, frozenset(map(AccessKind, one.kinds[name])), frozenset(unlocks), frozenset(implies))
            for name, (unlocks, implies) in one.permissions.items()
        ],
        "box" if one.collections else "",
    )


class _Writer:
    def __init__(self, connection: psycopg.Connection[Any], directory_id: UUID, estate: Estate, now: datetime) -> None:
        self.connection, self.directory_id, self.estate, self.now = connection, directory_id, estate, now
        self.clients = list(estate.clients.values())
        rows = connection.execute("select name, id from resource where directory_id = %s", [directory_id])
        self.places: dict[str, UUID] = dict(rows.fetchall())
        rows = connection.execute("select name, id from role where directory_id = %s", [directory_id])
        self.roles: dict[str, UUID] = dict(rows.fetchall())
        self.groups = {name: uuid4() for name in estate.groups}

    def copy(self, into: str, rows: Iterable[tuple[Any, ...]]) -> None:
        with self.connection.cursor() as cursor, cursor.copy(f"copy {into} from stdin".encode()) as copy:
            for row in rows:
                copy.write_row(row)

    def write(self) -> None:
        for one in self.estate.resources.values():
            self.connection.execute(
                "update resource set uncounted_since = %s, uncounted_until = %s where id = %s",
                [one.uncounted and one.uncounted - DAY, one.uncounted, self.places[one.name]],
            )
        self._people()
        self._clients()
        self._credentials()
        self._grants()
        self._uses()
        self._ledger()

    def _people(self) -> None:
        here, people = self.directory_id, self.estate.people.values()
        self.copy(
            "person (id, directory_id, login, name, active, created_at)",
            (
                (one.id, here, f"{one.id}@{self.estate.domain}", one.name, one.live, self.now - 800 * DAY)
                for one in people
            ),
        )
        made = {one.name: uuid4() for one in self.estate.roles.values() if one.name not in self.roles}
        self.copy(
            "role (id, directory_id, resource_id, name, title, permissions, shipped)",
            (
                (made[one.name], here, self.places[one.resource], one.name, "", one.permissions, False)
                for one in self.estate.roles.values()
                if one.name in made
            ),
        )
        self.roles |= made
        self.copy(
            "person_group (id, directory_id, name, title)", ((key, here, name, "") for name, key in self.groups.items())
        )
        self.copy(
            "group_inner (group_id, inner_id)",
            (
                (self.groups[outer], self.groups[name])
                for name, (_, around) in self.estate.groups.items()
                for outer in around
            ),
        )
        self.copy(
            "group_person (group_id, person_id)", ((self.groups[name], one.id) for one in people for name in one.groups)
        )
        self._assignments("person_id", ((one.id, one.roles) for one in people))
        self._assignments("group_id", ((self.groups[name], held) for name, (held, _) in self.estate.groups.items()))
        self._assignments("client_id", ((one.id, one.roles) for one in self.clients))

    def _assignments(self, holder: str, rows: Iterable[tuple[Any, list[Held]]]) -> None:
        self.copy(
            f"role_assignment (id, role_id, {holder}, assigned_at, assigned_by, expires_at, reach)",
            (
                (uuid4(), self.roles[one.role], key, one.begins, "truth", one.ends, _reach(one.reach))
                for key, held in rows
                for one in held
            ),
        )

    def _clients(self) -> None:
        self.copy(
            "client (id, directory_id, name, folded_name, look, purpose, kind, state, builtin, registered_at,"
            " registered_by, redirect_uris, publisher, trial_ends_at, grant_types, grant_types_since, logo)",
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
                    one.registered,
                    "truth",
                    one.redirects,
                    one.publisher,
                    one.trial,
                    one.grant_types,
                    one.grant_types_since,
                    "it has one" if one.logo else "",
                )
                for one in self.clients
            ),
        )
        looks = {one.id: logos.look_of(one.logo) for one in self.clients if one.logo}
        self.copy(
            "client_logo (client_id, directory_id, digest, look, bands, image)",
            (
                (key, self.directory_id, "", look, logos.bands_of(look) if look else [], b"")
                for key, look in looks.items()
            ),
        )
        self.copy(
            "client_redirect (client_id, address, since, last_at)",
            (
                (one.id, address, one.registered, self.now if address in one.answered else None)
                for one in self.clients
                for address in one.redirects
            ),
        )
        self.copy(
            "client_grant_type (client_id, grant_type, last_at)",
            ((one.id, name, self.now - DAY) for one in self.clients for name in sorted(one.got_by)),
        )
        self.copy(
            "client_owner (client_id, person_id, level)",
            ((one.id, key, level) for one in self.clients for key, level in one.owners),
        )
        self.copy(
            "publisher (directory_id, domain, vouched_at, vouched_by, reason)",
            ((self.directory_id, one, self.now - 100 * DAY, "truth", "Known") for one in self.estate.vouched),
        )

    def _credentials(self) -> None:
        dice = Random(7)
        keys = {
            held.id: [public_key(dice, held)] for one in self.clients for held in one.credentials if held.kind == "keys"
        }
        self.copy(
            "credential (id, client_id, directory_id, kind, hint, label, digest, keys, key_thumbprints, issuer, subject, keys_uri,"
            " issued_at, issued_by, starts_at, expires_at, disabled_at, withdrawn_at, first_used_at, last_used_at)",
            (
                (
                    held.id,
                    one.id,
                    self.directory_id,
                    held.kind,
                    held.hint,
                    "",
                    token_bytes(32) if held.kind == "secret" else None,
                    _document(keys.get(held.id)),
                    [keys[held.id][0]["kid"]] if held.id in keys else None,
                    "",
                    "",
                    "",
                    held.issued,
                    "truth",
                    held.starts,
                    held.ends,
                    held.disabled,
                    held.withdrawn,
                    held.used,
                    held.used,
                )
                for one in self.clients
                for held in one.credentials
            ),
        )
        self.copy(
            "rotation (id, directory_id, client_id, old_id, new_id, opened_at, opened_by, overlap_ends_at,"
            " quiet_seconds, ended_by, forced)",
            (
                (key, self.directory_id, one.id, old, new, self.now - 30 * DAY, "truth", ends, 60, "", False)
                for one in self.clients
                for key, old, new, ends in one.rotations
            ),
        )
        self.copy(
            "attempt (directory_id, client_id, at, day, outcome, hint, resource, detail, address, user_agent)",
            (
                (self.directory_id, one.id, at, at.date(), outcome, hint, "", "", "192.0.2.7", "truth")
                for one in self.clients
                for outcome, hint, at in (
                    *(("secret-withdrawn", hint, at) for hint, at in one.dead_tries),
                    *((outcome, "", at) for outcome, at in one.replays),
                )
            ),
        )
        self.copy(
            "client_network (client_id, network, first_at, last_at)",
            ((one.id, name, first, self.now) for one in self.clients for name, first in one.networks),
        )

    def _grants(self) -> None:
        self.copy(
            "consent (id, client_id, resource_id, permission, kind, granted_at, granted_by, expires_at, reach, person_id,"
            " by_person)",
            (
                (
                    uuid4(),
                    one.id,
                    self.places[held.resource],
                    held.permission,
                    held.kind,
                    held.begins,
                    "truth",
                    held.ends,
                    _reach(held.reach),
                    held.person or None,
                    bool(held.person),
                )
                for one in self.clients
                for held in one.grants
            ),
        )
        self.copy(
            "ask (id, client_id, resource_id, permission, kind, reason, asked_at, asked_by, asked_by_id)",
            (
                (uuid4(), one.id, self.places[resource], name, kind, "", at, "truth", "")
                for one in self.clients
                for resource, name, kind, at in one.asks
            ),
        )

    def _uses(self) -> None:
        self.copy(
            "usage (client_id, resource_id, operation, kind, day, calls, last_at)",
            (
                (one.id, self.places[resource], operation, kind, day, calls, at)
                for one in self.clients
                for (resource, operation, kind), days in one.uses.items()
                for day, (calls, at) in days.items()
            ),
        )
        self.copy(
            "object_use (client_id, resource_id, operation, object, last_at)",
            (
                (one.id, self.places[resource], operation, name, at)
                for one in self.clients
                for (resource, operation, name), at in one.objects.items()
            ),
        )
        self.copy(
            "person_use (client_id, resource_id, operation, person_id, last_at)",
            (
                (one.id, self.places[resource], operation, person, at)
                for one in self.clients
                for (resource, operation, person), at in one.people.items()
            ),
        )

    def _ledger(self) -> None:
        after = self.connection.execute(
            "select coalesce(max(sequence), 0) from ledger_entry where directory_id = %s", [self.directory_id]
        ).fetchone()
        assert after is not None
        rows = [(one, {**said.subject, "client": one.id}, said) for one in self.clients for said in one.ledger]
        every = [(subject, said) for _, subject, said in rows] + [(said.subject, said) for said in self.estate.ledger]
        every.sort(key=lambda pair: pair[1].at)
        self.copy(
            "ledger_entry (directory_id, sequence, at, actor, action, subject, before, after, reason, hash)",
            (
                (
                    self.directory_id,
                    after[0] + number,
                    said.at,
                    _document({"kind": said.kind, "id": said.by, "name": said.by_name}),
                    said.action,
                    _document(subject),
                    _document(said.before),
                    _document(said.after),
                    "",
                    b"",
                )
                for number, (subject, said) in enumerate(every, 1)
            ),
        )


def _reach(reach: Reach) -> str | None:
    return None if reach is None else json.dumps({reach[0]: list(reach[1])})


def _document(value: object) -> str | None:
    return json.dumps(value) if value is not None else None
