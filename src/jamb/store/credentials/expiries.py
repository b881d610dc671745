"""Credentials that expire: how many in which time, from sums by day, and the first of each week."""

from __future__ import annotations

from datetime import datetime, timedelta
from functools import cache
from typing import NamedTuple
from uuid import UUID

import sqlalchemy as sa
from sqlmodel import col

from jamb.store.base.columns import MOMENT, parameter
from jamb.store.base.reading import Reading, Rows, one
from jamb.store.credentials.credentials import CredentialRow, works
from jamb.store.directory.sums import SumOf

WEEK = timedelta(days=7)
# Days from now at which bands end.
BANDS = (7, 30, 90)
_STAND = "credential.directory_id = :directory and withdrawn_at is null and disabled_at is null"
# From a list of moments: how many credentials that work expire after each and until the next. Days between two moments
# are sums; of the day of a moment itself, which is in two of these times, its part is counted. What does not work yet
# is in the sums, and taken off.
_SPANS = f"""
    parted as (
        select place, moment, (moment at time zone 'UTC')::date as day, (
            select count(*) from credential
             where {_STAND} and expires_at >= date_trunc('day', moment, 'UTC') and expires_at <= moment
        ) as part
        from moments
    ), spans as (
        select place, part - lag(part) over way as more, lag(day) over way as first_day, day as last_day,
               lag(moment) over way as begins, moment as ends
          from parted window way as (order by place)
    ), expiring as (
        select place - 1 as place, begins, ends, more + coalesce((
            select sum(amount) from kept_sum
             where directory_id = :directory and sum_of = '{SumOf.EXPIRING}' and day >= first_day and day < last_day
        ), 0)::integer - (
            select count(*) from credential
             where {_STAND} and starts_at > :now and expires_at > begins and expires_at <= ends
        ) as many
        from spans where begins is not null
    )
"""  # noqa: S608 - of our own
_BANDS = sa.text(f"""
with moments (place, moment) as (
    select 0, cast(:now as timestamptz)
    union all select place, cast(:now as timestamptz) + make_interval(days => days)
      from unnest(array{list(BANDS)}) with ordinality each (days, place)
    union all select {len(BANDS) + 1}, 'infinity'
), {_SPANS}
select place, many from expiring
union all
select null, coalesce(sum(amount), 0)::integer - (
    select count(*) from credential where {_STAND} and starts_at > :now and expires_at is null
) from kept_sum where directory_id = :directory and sum_of = '{SumOf.EXPIRING}' and day is null
""").columns(place=sa.Integer, many=sa.Integer)  # noqa: S608 - of our own
_WEEKS = sa.text(f"""
with moments (place, moment) as (
    select place, cast(:now as timestamptz) + make_interval(secs => place * {WEEK.total_seconds()})
      from generate_series(0, cast(:weeks as integer)) each (place)
), {_SPANS}
select first.client_id, client.name, first.hint, first.expires_at, first.last_used_at, expiring.place, expiring.many
  from expiring cross join lateral (
    select client_id, hint, expires_at, last_used_at from credential
     where {_STAND} and (starts_at is null or starts_at <= :now) and expires_at > begins and expires_at <= ends
     order by expires_at, id limit :most_of_a_week
  ) first join client on client.id = first.client_id
 where expiring.many > 0
 order by first.expires_at, first.hint
""").columns(  # noqa: S608 - of our own
    client_id=sa.Text,
    name=sa.Text,
    hint=sa.Text,
    expires_at=MOMENT,
    last_used_at=MOMENT,
    place=sa.Integer,
    many=sa.Integer,
)


class ExpiringCredential(NamedTuple):
    """A credential that works and expires: in which week from now, counted from 0, and how many do in that week."""

    client_id: str
    client_name: str
    hint: str
    expires_at: datetime
    last_used_at: datetime | None
    week: int
    in_week: int


def by_week(directory_id: UUID, now: datetime, weeks: int, most: int) -> Reading[list[ExpiringCredential]]:
    """The first few credentials that expire in each of the coming weeks, the soonest first."""
    asked = {"directory": directory_id, "now": now, "weeks": weeks, "most_of_a_week": most}
    return Reading(_WEEKS, asked, lambda rows: [ExpiringCredential(*row) for row in rows])


def in_bands(directory_id: UUID, now: datetime) -> Reading[list[tuple[int | None, int]]]:
    """How many live credentials expire within 7, 30 and 90 days, how many later (0), and how many never (None)."""
    return Reading(_BANDS, {"now": now, "directory": directory_id}, _as_bands)


def _as_bands(rows: Rows) -> list[tuple[int | None, int]]:
    found = {place: int(many) for place, many in rows}
    return [*((days, found[place]) for place, days in enumerate((*BANDS, 0))), (None, found[None])]


def until(directory_id: UUID, now: datetime, end: datetime, used_since: datetime) -> Reading[tuple[int, int]]:
    """How many credentials that work expire until a moment, and how many of these were used since another."""
    asked = {"directory": directory_id, "now": now, "end": end, "used_since": used_since}
    return Reading(_until(), asked, _as_pair)


def _as_pair(rows: Rows) -> tuple[int, int]:
    many, used = one(rows)
    return int(many), int(used)


@cache
def _until() -> sa.Select[int, int]:
    lately = sa.func.count().filter(col(CredentialRow.last_used_at) >= parameter("used_since", MOMENT))
    return (
        sa.select(sa.func.count(), lately)
        .select_from(CredentialRow)
        .where(
            col(CredentialRow.directory_id) == parameter("directory", sa.Uuid),
            works(parameter("now", MOMENT)),
            col(CredentialRow.expires_at) < parameter("end", MOMENT),
        )
    )
