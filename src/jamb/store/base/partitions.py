"""Tables that are parted by day (UTC): what is past its time goes with a whole part, not row by row.

Parts are made ahead of time. Rows of a day that has none (a service that was off for days, records moved from before)
lie in the rest, `…_rest`, until their part is made and they are moved there. Whoever writes to the rest at that very
moment is refused by the server, and writes again.
"""

from __future__ import annotations

from collections.abc import Iterator
from datetime import date
from typing import NamedTuple

# A longer word for it in the policy is its own bound; this is what it says where it says nothing.
ATTEMPTS_DAYS = "(SELECT coalesce(max(coalesce((policy ->> 'attempts_days')::int, 90)), 90) FROM directory)"
# A guard sends a report again for a while if it never heard of it; not after so long.
USAGE_BATCH_DAYS = 7
REFUSAL_DAYS = 400
AHEAD_DAYS = 3
# A Monday, from which parts are counted.
_FIRST = "date '2001-01-01'"
_LOCK = 0x7061727473


class Parted(NamedTuple):
    """`days`: of a part. `kept_days`: for how many days rows are kept, in SQL."""

    table: str
    days: int
    kept_days: str


PARTED = (
    Parted("attempt", 7, ATTEMPTS_DAYS),
    Parted("usage_batch", 1, str(USAGE_BATCH_DAYS)),
    Parted("refusal", 28, str(REFUSAL_DAYS)),
)


def keep_parts(today: date) -> Iterator[tuple[str, str]]:
    """Yield for each table the statement that makes the parts to come and drops those that are past their time.

    One process does so at a time; the others pass it over. None waits for a table longer than two seconds.
    """
    for parted in PARTED:
        yield (
            parted.table,
            _STATEMENT.format(today=today.isoformat(), lock=_LOCK, first=_FIRST, ahead=AHEAD_DAYS, **parted._asdict()),
        )


# The names are our own, and the date is a date.
_STATEMENT = """
DO $parts$
DECLARE
    today date := date '{today}';
    oldest date;
    begins date;
    part text;
BEGIN
    IF NOT pg_try_advisory_xact_lock({lock}) THEN
        RETURN;
    END IF;
    PERFORM set_config('lock_timeout', '2s', true);
    oldest := today - {kept_days};
    FOR begins IN
        SELECT DISTINCT day - mod(day - {first}, {days}) FROM (
            SELECT generate_series(today, today + greatest({ahead}, {days}), interval '1 day')::date AS day
            UNION
            SELECT day FROM {table}_rest WHERE day BETWEEN oldest AND today + greatest({ahead}, {days})
        ) wanted
    LOOP
        part := '{table}_' || to_char(begins, 'YYYYMMDD');
        CONTINUE WHEN to_regclass(part) IS NOT NULL;
        -- Nobody writes to the rest between what is moved out of it and the part that takes its place.
        LOCK TABLE {table}_rest IN SHARE ROW EXCLUSIVE MODE;
        EXECUTE format('CREATE TABLE %I (LIKE {table} INCLUDING DEFAULTS INCLUDING CONSTRAINTS)', part);
        EXECUTE format(
            'WITH moved AS (DELETE FROM {table}_rest WHERE day >= %L AND day < %L RETURNING *) '
            'INSERT INTO %I SELECT * FROM moved', begins, begins + {days}, part);
        EXECUTE format('ALTER TABLE {table} ATTACH PARTITION %I FOR VALUES FROM (%L) TO (%L)',
                       part, begins, begins + {days});
    END LOOP;
    FOR part IN
        SELECT relname FROM pg_inherits JOIN pg_class ON pg_class.oid = inhrelid
        WHERE inhparent = '{table}'::regclass AND relname ~ '^{table}_[0-9]{{8}}$'
          AND to_date(right(relname, 8), 'YYYYMMDD') + {days} <= oldest
    LOOP
        EXECUTE format('DROP TABLE %I', part);
    END LOOP;
    DELETE FROM {table}_rest WHERE day < oldest;
END
$parts$
"""


def is_part(name: str | None) -> bool:
    """Tell whether a table is a part of another one."""
    return name is not None and any(
        name == f"{parted.table}_rest"
        or (name.startswith(f"{parted.table}_") and name.removeprefix(f"{parted.table}_").isdigit())
        for parted in PARTED
    )
