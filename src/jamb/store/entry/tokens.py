"""The reads and writes of the token path: statements compiled once from the tables and run on the driver.

The condition under which a grant is in force is that of `core.access.HeldGrant.in_force`; a test compares the two.
A granted permission comes as its name or, where it is bounded, as its name, a space and its reach in JSON.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import Any, NamedTuple
from uuid import UUID

import sqlalchemy as sa

from jamb.store.base.columns import MOMENT
from jamb.store.base.driver import compiled, table_of
from jamb.store.clients.clients import AskRow, ClientRow, GrantRow
from jamb.store.credentials.credentials import AssertionSeenRow, CredentialRow
from jamb.store.directory.directories import DirectoryRow, SigningKeyRow
from jamb.store.directory.roles import AssignmentRow, RoleRow
from jamb.store.resources.resources import ResourceRow
from jamb.store.resources.usage import AttemptRow

_directory, _client, _credential = table_of(DirectoryRow), table_of(ClientRow), table_of(CredentialRow)
_resource, _consent, _ask, _key = table_of(ResourceRow), table_of(GrantRow), table_of(AskRow), table_of(SigningKeyRow)
_attempt, _role, _assignment, _seen = (
    table_of(AttemptRow),
    table_of(RoleRow),
    table_of(AssignmentRow),
    table_of(AssertionSeenRow),
)


def _param(name: str, kind: Any = None) -> sa.BindParameter[Any]:
    return sa.bindparam(name, type_=kind) if kind is not None else sa.bindparam(name)


# What signs access tokens. Of RS256 there may be none for the first minutes after an upgrade: the other stands in.
_wanted = sa.literal_column(
    "case when (directory.policy ->> 'rs256_access_tokens')::boolean then 'RS256' else 'ES256' end", sa.Text
)
_newest_key = (
    sa.select(_key.c.kid)
    .where(_key.c.directory_id == _directory.c.id, _key.c.withdrawn_at.is_(None), _key.c.signs_from <= sa.func.now())
    .order_by((_key.c.algorithm == _wanted).desc(), _key.c.signs_from.desc())
    .limit(sa.literal_column("1"))
    .correlate(_directory)
    .scalar_subquery()
)


def _in_force(since: sa.ColumnElement[Any], until: sa.ColumnElement[Any]) -> sa.ColumnElement[bool]:
    now = _param("now", MOMENT)
    return sa.and_(since <= now, sa.or_(until.is_(None), until > now))


def _bounded(permission: sa.ColumnElement[Any], reach: sa.ColumnElement[Any]) -> sa.ColumnElement[Any]:
    """Return the permission, followed by its reach where it is not everywhere: one array carries both."""
    return permission + sa.func.coalesce(sa.literal_column("' '") + sa.cast(reach, sa.Text), sa.literal_column("''"))


def _granted(kind: str, client: sa.ColumnElement[str], resource: sa.ColumnElement[Any]) -> sa.ColumnElement[Any]:
    """Return what counts for everyone: by consent and, where the client acts as itself, by its own roles."""
    consented = sa.select(_bounded(_consent.c.permission, _consent.c.reach)).where(
        _consent.c.client_id == client,
        _consent.c.resource_id == resource,
        _consent.c.kind == sa.literal_column(f"'{kind}'"),
        _consent.c.person_id.is_(None),
        _in_force(_consent.c.granted_at, _consent.c.expires_at),
    )
    if kind != "application":
        return sa.func.array(consented.correlate(_client, _resource).scalar_subquery())
    by_role = (
        sa.select(_bounded(sa.func.unnest(_role.c.permissions), _assignment.c.reach))
        .select_from(_assignment.join(_role, _role.c.id == _assignment.c.role_id))
        .where(
            _assignment.c.client_id == client,
            _role.c.resource_id == resource,
            _in_force(_assignment.c.assigned_at, _assignment.c.expires_at),
        )
    )
    both = sa.union_all(consented.correlate(_client, _resource), by_role.correlate(_client, _resource))
    return sa.func.array(both.scalar_subquery())


class Authenticated(NamedTuple):
    """A row of `AUTHENTICATE` and its like: the directory, and what there is of client, credential and resource.

    `granted`: permissions that count for everyone, a bounded one with its reach behind a space.
    """

    directory_id: UUID
    seconds: int
    kid: str
    client_kind: str | None
    client_state: str | None
    grant_types: Sequence[str] | None
    credential_id: UUID | None
    credential_client: str | None
    hint: str | None
    expires_at: datetime | None
    withdrawn_at: datetime | None
    disabled_at: datetime | None
    resource_id: UUID | None
    revision: int | None
    granted: Sequence[str]
    narrowed_at: datetime | None
    suspended: bool


def _authenticate(*, at_resource: bool) -> sa.Select[Any]:
    joined: sa.FromClause = _directory.outerjoin(
        _client, sa.and_(_client.c.directory_id == _directory.c.id, _client.c.id == _param("client", sa.Text))
    ).outerjoin(_credential, _credential.c.digest == _param("digest", sa.LargeBinary))
    there: Sequence[sa.ColumnElement[Any]] = (
        sa.literal_column("NULL::uuid").label("resource_id"),
        sa.literal_column("NULL::integer").label("revision"),
        sa.literal_column("ARRAY[]::text[]").label("granted"),
    )
    if at_resource:
        named = _resource.c.identifier == _param("resource", sa.Text)
        joined = joined.outerjoin(_resource, sa.and_(_resource.c.directory_id == _directory.c.id, named))
        granted = _granted("application", _client.c.id, _resource.c.id).label("granted")
        there = (_resource.c.id.label("resource_id"), _resource.c.revision, granted)
    return (
        sa.select(
            _directory.c.id.label("directory_id"),
            sa.literal_column("(directory.policy ->> 'access_token_seconds')::integer").label("seconds"),
            _newest_key.label("kid"),
            _client.c.kind.label("client_kind"),
            _client.c.state.label("client_state"),
            _client.c.grant_types,
            _credential.c.id.label("credential_id"),
            _credential.c.client_id.label("credential_client"),
            _credential.c.hint,
            _credential.c.expires_at,
            _credential.c.withdrawn_at,
            _credential.c.disabled_at,
            *there,
            _client.c.narrowed_at,
            _directory.c.suspended_at.is_not(None).label("suspended"),
        )
        .select_from(joined)
        .where(_directory.c.slug == _param("slug", sa.Text))
    )


_at_resource = _authenticate(at_resource=True)
# Parameters: slug, client, digest. One row (`Authenticated`) with nothing of a resource, or none when there is no such
# directory.
AUTHENTICATE = compiled(_authenticate(at_resource=False))
# Parameters: those of `AUTHENTICATE`, resource, now. Its row, with what there is of the resource.
AUTHENTICATE_AT_RESOURCE = compiled(_at_resource)


class KeyHeld(NamedTuple):
    """A row of `KEYS_OF`: a credential that is no secret. `keys`: public ones (RFC 7517); None: they are fetched."""

    id: UUID
    kind: str
    hint: str
    keys: Sequence[Mapping[str, Any]] | None
    issuer: str
    subject: str
    keys_uri: str
    starts_at: datetime | None
    expires_at: datetime | None
    disabled_at: datetime | None
    withdrawn_at: datetime | None


_held = _credential.alias("held")


def _held_of(credential: sa.FromClause) -> list[sa.ColumnElement[Any]]:
    return [credential.c[name] for name in KeyHeld._fields]


def keys_in(rows: Sequence[Sequence[Any]]) -> list[KeyHeld]:
    """Return what stands for the client in rows of `AUTHENTICATE_BY_KEY`: one row without, where nothing does."""
    behind = len(Authenticated._fields)
    return [KeyHeld(*row[behind:]) for row in rows if row[behind] is not None]


# Parameters: those of `AUTHENTICATE_AT_RESOURCE`. Its row before each of what a client may prove itself with beside
# secrets (`KeyHeld`), newest first.
_known = _at_resource.cte("known").prefix_with("MATERIALIZED", dialect="postgresql")
_authenticate_by_key = (
    sa.select(_known, *_held_of(_held))
    .select_from(
        _known.outerjoin(
            _held,
            sa.and_(
                _known.c.client_kind.is_not(None),
                _held.c.client_id == _param("client", sa.Text),
                _held.c.kind != sa.literal_column("'secret'"),
            ),
        )
    )
    .order_by(_held.c.issued_at.desc())
)
AUTHENTICATE_BY_KEY = compiled(_authenticate_by_key)

# Parameters: slug, client. What a client may prove itself with beside secrets, newest first.
_keys_of = (
    sa.select(*_held_of(_credential))
    .select_from(
        _credential.join(_client, _client.c.id == _credential.c.client_id).join(
            _directory, _directory.c.id == _client.c.directory_id
        )
    )
    .where(
        _directory.c.slug == _param("slug", sa.Text),
        _client.c.id == _param("client", sa.Text),
        _credential.c.kind != sa.literal_column("'secret'"),
    )
    .order_by(_credential.c.issued_at.desc())
)
KEYS_OF = compiled(_keys_of)

# Parameters: since, after, most. Certificates (DER) that stand for a client, of those registered after a place in the
# order of their moments and ids, with these.
CERTIFICATES_SINCE = compiled(
    sa.select(_credential.c.certificate, _credential.c.issued_at, _credential.c.id)
    .where(
        _credential.c.certificate.is_not(None),
        _credential.c.withdrawn_at.is_(None),
        sa.tuple_(_credential.c.issued_at, _credential.c.id)
        > sa.tuple_(_param("since", MOMENT), _param("after", sa.Uuid)),
    )
    .order_by(_credential.c.issued_at, _credential.c.id)
    .limit(_param("most", sa.Integer))
)

# Parameters: arrays of client ids, digests and ends, each pair once and in order, so that processes never deadlock. A
# row for each that is new, with its client and digest; none for what was seen.
SEE_ASSERTIONS = f"""
INSERT INTO {_seen.name} (client_id, digest, expires_at)
SELECT sent.client_id, sent.digest, sent.ends
  FROM unnest(%(clients)b::text[], %(digests)b::bytea[], %(ends)b::timestamptz[]) AS sent (client_id, digest, ends)
  JOIN client ON client.id = sent.client_id
 ORDER BY 1, 2
    ON CONFLICT DO NOTHING RETURNING client_id, digest
"""  # noqa: S608 - names of our own

# Parameters: slug, client. The identifiers of the resources at which a client holds grants or roles.
GRANTED_AT = compiled(
    sa.union(
        sa.select(_resource.c.identifier)
        .select_from(
            _consent.join(_resource, _resource.c.id == _consent.c.resource_id).join(
                _directory, _directory.c.id == _resource.c.directory_id
            )
        )
        .where(_consent.c.client_id == _param("client", sa.Text), _directory.c.slug == _param("slug", sa.Text)),
        sa.select(_resource.c.identifier)
        .select_from(
            _assignment.join(_role, _role.c.id == _assignment.c.role_id)
            .join(_resource, _resource.c.id == _role.c.resource_id)
            .join(_directory, _directory.c.id == _resource.c.directory_id)
        )
        .where(_assignment.c.client_id == _param("client", sa.Text), _directory.c.slug == _param("slug", sa.Text)),
    )
)

# Parameters: client, resource_id. What a client asks at a resource, for the wording of a refusal.
ASKED = compiled(
    sa.select(_ask.c.permission).where(
        _ask.c.client_id == _param("client", sa.Text),
        _ask.c.resource_id == _param("resource_id", sa.Uuid),
        _ask.c.kind == sa.literal_column("'application'"),
    )
)


class Delegated(NamedTuple):
    """A row of `DELEGATED`."""

    directory_id: UUID
    seconds: int
    kid: str
    resource_id: UUID
    revision: int
    identifier: str
    granted: Sequence[str]
    suspended: bool


# Parameters: slug, client, name, now. What a public client may do for a person at Jamb's own API.
_delegated = (
    sa.select(
        _directory.c.id.label("directory_id"),
        sa.literal_column("(directory.policy ->> 'person_token_seconds')::integer").label("seconds"),
        _newest_key.label("kid"),
        _resource.c.id.label("resource_id"),
        _resource.c.revision,
        _resource.c.identifier,
        _granted("delegated", _client.c.id, _resource.c.id).label("granted"),
        _directory.c.suspended_at.is_not(None).label("suspended"),
    )
    .select_from(
        _directory.join(_client, _client.c.directory_id == _directory.c.id).join(
            _resource, _resource.c.directory_id == _directory.c.id
        )
    )
    .where(
        _directory.c.slug == _param("slug", sa.Text),
        _client.c.id == _param("client", sa.Text),
        _resource.c.name == _param("name", sa.Text),
    )
)
DELEGATED = compiled(_delegated)

# Parameters: kid.
SIGNING_KEY = compiled(sa.select(_key.c.directory_id, _key.c.sealed).where(_key.c.kid == _param("kid", sa.Text)))

# Parameters: one array per column of ATTEMPT_COLUMNS. One statement whatever the size of the group.
ATTEMPT_COLUMNS = (
    "directory_id",
    "client_id",
    "at",
    "outcome",
    "hint",
    "resource",
    "detail",
    "address",
    "user_agent",
    "times",
    "digest",
)
# Sent in binary (%b): as text, an array costs the driver four times as much.
_ATTEMPT_ARRAYS = (
    "%b::uuid[], %b::text[], %b::timestamptz[], " + ", ".join(["%b::text[]"] * 6) + ", %b::int[], %b::bytea[]"
)
# Equal refusals of one minute have one digest, and are one row; successes have none.
RECORD_ATTEMPTS = f"""
INSERT INTO {_attempt.name} AS attempt ({", ".join(ATTEMPT_COLUMNS)}, day)
SELECT {", ".join(ATTEMPT_COLUMNS[:-1])}, nullif(digest, ''::bytea), (at AT TIME ZONE 'UTC')::date
  FROM unnest({_ATTEMPT_ARRAYS}) AS sent ({", ".join(ATTEMPT_COLUMNS)})
ON CONFLICT (digest, day) WHERE digest IS NOT NULL
DO UPDATE SET times = attempt.times + excluded.times, at = greatest(attempt.at, excluded.at)
"""  # noqa: S608 - names of our own

# Parameters: arrays of ids and moments, each id once. Rows are locked in order, so that two processes never deadlock.
TOUCH_CREDENTIALS = f"""
WITH seen AS (SELECT * FROM unnest(%b::uuid[], %b::timestamptz[]) AS seen (id, at)),
     held AS (SELECT id FROM {_credential.name} WHERE id IN (SELECT id FROM seen) ORDER BY id FOR NO KEY UPDATE)
UPDATE {_credential.name} AS credential
   SET last_used_at = greatest(credential.last_used_at, seen.at),
       first_used_at = coalesce(credential.first_used_at, seen.at)
  FROM seen JOIN held USING (id)
 WHERE credential.id = seen.id
"""  # noqa: S608 - names of our own

# Of who comes from more networks no more are kept: that is a habit already.
MOST_NETWORKS = 50
# Parameters: arrays of client ids, networks and moments, each pair once and in order, so that processes never deadlock.
NOTE_NETWORKS = f"""
INSERT INTO client_network (client_id, network, first_at, last_at)
SELECT seen.client_id, seen.network, seen.at, seen.at
  FROM unnest(%b::text[], %b::text[], %b::timestamptz[]) AS seen (client_id, network, at)
  JOIN client ON client.id = seen.client_id
 WHERE (SELECT count(*) FROM client_network AS other WHERE other.client_id = seen.client_id) < {MOST_NETWORKS}
 ORDER BY 1, 2
    ON CONFLICT (client_id, network) DO UPDATE SET last_at = greatest(client_network.last_at, excluded.last_at)
"""  # noqa: S608 - a number of our own

# Parameters: arrays of client ids, grant types and moments, each pair once and in order.
NOTE_GRANT_TYPES = """
INSERT INTO client_grant_type (client_id, grant_type, last_at)
SELECT seen.client_id, seen.grant_type, seen.at
  FROM unnest(%b::text[], %b::text[], %b::timestamptz[]) AS seen (client_id, grant_type, at)
  JOIN client ON client.id = seen.client_id
 ORDER BY 1, 2
    ON CONFLICT (client_id, grant_type) DO UPDATE
   SET last_at = greatest(client_grant_type.last_at, excluded.last_at)
"""

# The rows by the names of what they are read from: a test compares the two.
ROWS = ((Authenticated, _at_resource), (KeyHeld, _keys_of), (Delegated, _delegated))

__all__ = [
    "ASKED",
    "ATTEMPT_COLUMNS",
    "AUTHENTICATE",
    "AUTHENTICATE_AT_RESOURCE",
    "AUTHENTICATE_BY_KEY",
    "CERTIFICATES_SINCE",
    "DELEGATED",
    "GRANTED_AT",
    "KEYS_OF",
    "NOTE_GRANT_TYPES",
    "NOTE_NETWORKS",
    "RECORD_ATTEMPTS",
    "ROWS",
    "SEE_ASSERTIONS",
    "SIGNING_KEY",
    "TOUCH_CREDENTIALS",
    "Authenticated",
    "Delegated",
    "KeyHeld",
    "keys_in",
]
