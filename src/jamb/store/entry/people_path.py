"""The reads and writes of tokens for people that count: one statement each, run on the driver (decision 4).

What is not as it should be is looked at again with the tables (`actions.authorization.person_tokens`), which says what
is wrong. The conditions are those of `core.access`; tests compare the two ways.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import Any, NamedTuple
from uuid import UUID


class Redeemable(NamedTuple):
    """What a code or refresh token stands for, with all that decides what may come of it at this moment.

    Attributes:
        granted: what the client holds for people at the resource, for everyone or for this person; a bounded one with
            its reach behind a space.
        held: what the person holds there by roles of theirs and of their groups, alike.
        recent: how many refresh tokens it had of late.
        narrowed_at: when something of it was taken away last.
    """

    id: UUID
    person_id: UUID
    resource_id: UUID | None
    revision: int | None
    collections_revision: int | None
    identifier: str | None
    scope: Sequence[str]
    request: Mapping[str, Any]
    created_at: datetime
    expires_at: datetime
    redeemed_at: datetime | None
    ended_at: datetime | None
    authenticated_at: datetime
    second_factor: bool
    passkey: bool
    provider: str
    bound_to: str
    active: bool
    admitted: bool
    granted: Sequence[str]
    held: Sequence[str]
    narrowed_at: datetime | None
    idle_days: int
    longest_days: int
    token_expires_at: datetime | None
    used_at: datetime | None
    recent: int


_BY_REFRESH = "SELECT authorization_id FROM refresh_token WHERE digest = %(digest)s::bytea"
_BY_CODE = "SELECT id FROM person_authorization WHERE code_digest = %(digest)s::bytea"
_REFRESHED = """
    (SELECT expires_at FROM refresh_token WHERE digest = %(digest)s::bytea) AS token_expires_at,
    (SELECT used_at FROM refresh_token WHERE digest = %(digest)s::bytea) AS used_at,
    (SELECT count(*) FROM refresh_token other
      WHERE other.authorization_id = access.id AND other.created_at > %(recently)s::timestamptz) AS recent
"""
_UNREFRESHED = "NULL::timestamptz AS token_expires_at, NULL::timestamptz AS used_at, 0 AS recent"


def _read(found: str, token: str) -> str:
    return f"""
WITH RECURSIVE access AS (
    SELECT * FROM person_authorization WHERE id = ({found}) AND client_id = %(client)s::text
), around (group_id) AS (
    SELECT inside.group_id FROM group_person inside JOIN access ON access.person_id = inside.person_id
    UNION SELECT outer_one.group_id FROM group_inner outer_one JOIN around ON outer_one.inner_id = around.group_id
)
SELECT access.id, access.person_id, access.resource_id,
    resource.revision, resource.collections_revision, resource.identifier,
    access.scope, access.request, access.created_at, access.expires_at, access.redeemed_at, access.ended_at,
    access.authenticated_at, access.second_factor, access.passkey, access.provider, access.bound_to,
    person.active,
    (client.trial_ends_at IS NULL OR client.trial_ends_at > %(now)s::timestamptz)
    AND (client.sign_in_groups = ARRAY[]::text[] OR EXISTS (
        SELECT FROM person_group named JOIN around ON around.group_id = named.id
         WHERE named.name = ANY (client.sign_in_groups)
    )) AS admitted,
    ARRAY (
        SELECT permission || coalesce(' ' || reach::text, '') FROM consent
         WHERE consent.client_id = access.client_id AND consent.resource_id = access.resource_id
           AND kind = 'delegated' AND (consent.person_id IS NULL OR consent.person_id = access.person_id)
           AND granted_at <= %(now)s::timestamptz
           AND (consent.expires_at IS NULL OR consent.expires_at > %(now)s::timestamptz)
    ) AS granted,
    ARRAY (
        SELECT unnest(role.permissions) || coalesce(' ' || given.reach::text, '')
          FROM role_assignment given JOIN role ON role.id = given.role_id
         WHERE role.resource_id = access.resource_id
           AND (given.person_id = access.person_id OR given.group_id = ANY (ARRAY (SELECT group_id FROM around)))
           AND given.assigned_at <= %(now)s::timestamptz
           AND (given.expires_at IS NULL OR given.expires_at > %(now)s::timestamptz)
    ) AS held,
    greatest(
        (SELECT max(earlier.ended_at) FROM person_authorization earlier
          WHERE earlier.client_id = access.client_id AND earlier.person_id = access.person_id),
        (SELECT at FROM person_narrowed WHERE person_narrowed.person_id = access.person_id)
    ) AS narrowed_at,
    (directory.policy ->> 'refresh_idle_days')::integer AS idle_days,
    (directory.policy ->> 'refresh_longest_days')::integer AS longest_days,
    {token}
  FROM access
  JOIN directory ON directory.id = access.directory_id AND directory.slug = %(slug)s::text
  JOIN client ON client.id = access.client_id
  JOIN person ON person.id = access.person_id
  LEFT JOIN resource ON resource.id = access.resource_id
"""  # noqa: S608 - parts of our own


# Parameters: digest, client, slug, now, recently. One row (`Redeemable`), or none.
READ_BY_REFRESH = _read(_BY_REFRESH, _REFRESHED)
# Parameters: digest, client, slug, now.
READ_BY_CODE = _read(_BY_CODE, _UNREFRESHED)

_FOLLOWS = """
    INSERT INTO refresh_token (digest, authorization_id, created_at, expires_at)
    SELECT %(next)s::bytea, done.id, %(now)s::timestamptz, %(next_expires)s::timestamptz FROM done
     WHERE %(next)s::bytea IS NOT NULL
"""
# Parameters: id, digest, next, next_expires, now. One row where it was done: nobody else was quicker, and it has not
# ended. The authorization is locked first, as whoever ends it does.
ROTATE = f"""
WITH access AS (
    SELECT id FROM person_authorization WHERE id = %(id)s::uuid AND ended_at IS NULL FOR NO KEY UPDATE
), done AS (
    UPDATE refresh_token SET used_at = %(now)s::timestamptz
      FROM access
     WHERE digest = %(digest)s::bytea AND used_at IS NULL AND authorization_id = access.id
    RETURNING authorization_id AS id
), follows AS ({_FOLLOWS})
SELECT 1 FROM done
"""  # noqa: S608 - parts of our own
# Parameters: id, key, expires, next, next_expires, now. Alike.
REDEEM = f"""
WITH done AS (
    UPDATE person_authorization
       SET redeemed_at = %(now)s::timestamptz, expires_at = %(expires)s::timestamptz, bound_to = %(key)s::text
     WHERE id = %(id)s::uuid AND ended_at IS NULL AND redeemed_at IS NULL
    RETURNING id
), follows AS ({_FOLLOWS})
SELECT 1 FROM done
"""  # noqa: S608 - parts of our own

# Parameters: slug, audience, clients, sid, person, issued, now. One row: whether an access token of these claims counts
# still, and the guard of the resource that it is for; none where there is no such directory.
STILL_COUNTS = """
WITH RECURSIVE around (group_id) AS (
    SELECT group_id FROM group_person WHERE person_id = %(person)s::uuid
    UNION SELECT outer_one.group_id FROM group_inner outer_one JOIN around ON outer_one.inner_id = around.group_id
)
SELECT directory.suspended_at IS NULL
   AND NOT EXISTS (
        SELECT FROM unnest(%(clients)s::text[]) named (id)
          LEFT JOIN client ON client.id = named.id AND client.directory_id = directory.id
         WHERE client.state IS DISTINCT FROM 'live' OR client.tokens_revoked_at >= %(issued)s::timestamptz
       )
   AND (%(sid)s::uuid IS NULL OR (
        EXISTS (SELECT FROM person_authorization access WHERE access.id = %(sid)s::uuid AND access.ended_at IS NULL)
        AND NOT EXISTS (
            SELECT FROM person_narrowed less
             WHERE less.person_id = %(person)s::uuid AND less.at > %(issued)s::timestamptz)
        AND NOT EXISTS (
            SELECT FROM role_assignment ended
             WHERE ended.client_id IS NULL AND ended.expires_at > %(issued)s::timestamptz
               AND ended.expires_at <= %(now)s::timestamptz
               AND (ended.person_id = %(person)s::uuid OR ended.group_id = ANY (ARRAY (SELECT group_id FROM around))))
       )) AS counts,
       (SELECT guard_client_id FROM resource
         WHERE resource.directory_id = directory.id AND resource.identifier = %(audience)s::text) AS guard
  FROM directory WHERE directory.slug = %(slug)s::text
"""

__all__ = ["READ_BY_CODE", "READ_BY_REFRESH", "REDEEM", "ROTATE", "STILL_COUNTS", "Redeemable"]
