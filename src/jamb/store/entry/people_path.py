"""The reads and writes of tokens for people that count: one statement each, run on the driver (decision 4).

What is not as it should be is looked at again with the tables (`actions.authorization.person_tokens`), which says what
is wrong. The conditions are those of `core.access`; tests compare the two ways.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import Any, NamedTuple
from uuid import UUID

from jamb.store.entry.tokens import AUTHENTICATE


class Redeemable(NamedTuple):
    """What a code or refresh token stands for, with all that decides what may come of it at this moment.

    Attributes:
        granted: what the client holds for people at the resource, for everyone or for this person; a bounded one with
            its reach behind a space.
        held: what the person holds there by roles of theirs and of their groups, alike.
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


def _around(found: str) -> str:
    """Return what comes before `_STANDS`: the authorization that is found, and the groups around its person."""
    return f"""
WITH RECURSIVE access AS (
    SELECT * FROM person_authorization WHERE id = ({found}) AND client_id = %(client)s::varchar
), around (group_id) AS (
    SELECT inside.group_id FROM group_person inside JOIN access ON access.person_id = inside.person_id
    UNION SELECT outer_one.group_id FROM group_inner outer_one JOIN around ON outer_one.inner_id = around.group_id
)"""  # noqa: S608 - parts of our own


_STANDS = """
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
    (directory.policy ->> 'refresh_longest_days')::integer AS longest_days
  FROM access
  JOIN directory ON directory.id = access.directory_id AND directory.slug = %(slug)s::varchar
  JOIN client ON client.id = access.client_id
  JOIN person ON person.id = access.person_id
  LEFT JOIN resource ON resource.id = access.resource_id
"""

# Parameters: code, client, slug, now. One row (`Redeemable`), or none.
READ_BY_CODE = _around("SELECT id FROM person_authorization WHERE code_digest = %(code)s::bytea") + _STANDS

# Parameters: id, key, expires, next, next_expires, now. One row where it was done: nobody else was quicker, and it has
# not ended.
REDEEM = """
WITH done AS (
    UPDATE person_authorization
       SET redeemed_at = %(now)s::timestamptz, expires_at = %(expires)s::timestamptz, bound_to = %(key)s::text
     WHERE id = %(id)s::uuid AND ended_at IS NULL AND redeemed_at IS NULL
    RETURNING id
), follows AS (
    INSERT INTO refresh_token (digest, authorization_id, created_at, expires_at)
    SELECT %(next)s::bytea, done.id, %(now)s::timestamptz, %(next_expires)s::timestamptz FROM done
     WHERE %(next)s::bytea IS NOT NULL
)
SELECT 1 FROM done
"""
# Parameters: those of `AUTHENTICATE`, and now, token, proven, kinds, recently, most, scope, at, key, next. One row: of
# `AUTHENTICATE`, then `Redeemable`, then whether the token was used up and the next one put in its place; none where
# there is no such directory.
#
# All in one, for it is what clients do most. It is done where all is as it should be, the client's proof included
# (`proven`: that was judged before; else `kinds` are those that prove themselves as this one did), so that nothing is
# used up by a request that is refused. Whoever runs it judges the client by the same row all the same, and where it was
# not done looks again, and says why. The authorization is locked first, as whoever ends it does.
REFRESH = f"""
{_around("SELECT authorization_id FROM refresh_token WHERE digest = %(token)s::bytea")}, known AS MATERIALIZED (
{AUTHENTICATE}
), stands AS MATERIALIZED ({_STANDS}), good AS (
    SELECT stands.id, stands.expires_at, stands.idle_days FROM known CROSS JOIN stands
     WHERE NOT known.suspended AND known.client_state = 'live'
       AND known.client_kind = ANY (%(kinds)s::text[])
       AND (known.grant_types = ARRAY[]::text[] OR 'refresh_token' = ANY (known.grant_types))
       AND (%(proven)s::boolean OR (
            known.credential_client = %(client)s::varchar AND known.disabled_at IS NULL
            AND (known.withdrawn_at IS NULL OR known.withdrawn_at > %(now)s::timestamptz)
            AND (known.expires_at IS NULL OR known.expires_at > %(now)s::timestamptz)))
       AND stands.ended_at IS NULL AND stands.active AND stands.admitted
       AND stands.expires_at > %(now)s::timestamptz
       AND stands.expires_at = stands.created_at + stands.longest_days * interval '24 hours'
       AND 'offline_access' = ANY (stands.scope)
       AND stands.bound_to IN ('', %(key)s::text)
       AND (%(scope)s::text[] IS NULL OR %(scope)s::text[] <@ stands.scope)
       AND (%(at)s::text IS NULL OR %(at)s::text = stands.request ->> 'resource')
       AND (SELECT count(*) FROM refresh_token other
             WHERE other.authorization_id = stands.id AND other.created_at > %(recently)s::timestamptz
           ) <= %(most)s::integer
), held AS (
    SELECT access.id FROM person_authorization access JOIN good USING (id)
     WHERE access.ended_at IS NULL FOR NO KEY UPDATE OF access
), done AS (
    UPDATE refresh_token SET used_at = %(now)s::timestamptz FROM held
     WHERE digest = %(token)s::bytea AND used_at IS NULL AND authorization_id = held.id
       AND refresh_token.expires_at > %(now)s::timestamptz
    RETURNING held.id
), follows AS (
    INSERT INTO refresh_token (digest, authorization_id, created_at, expires_at)
    SELECT %(next)s::bytea, id, %(now)s::timestamptz,
           least(good.expires_at, %(now)s::timestamptz + good.idle_days * interval '24 hours')
      FROM done JOIN good USING (id)
)
SELECT known.*, stands.*, EXISTS (SELECT FROM done) AS done FROM known LEFT JOIN stands ON true
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

__all__ = ["READ_BY_CODE", "REDEEM", "REFRESH", "STILL_COUNTS", "Redeemable"]
