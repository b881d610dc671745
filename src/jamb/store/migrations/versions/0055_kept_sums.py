"""Sums of clients, of what the audit keeps of them, and of credentials by the day of their end, are kept"""

import sqlalchemy as sa
from alembic import op

revision = "0055"
down_revision = "0054"
branch_labels = None
depends_on = None

# What is added up: of a row of `client` and `credential` where it counts, of the others by measure.
_CLIENT = "not {0}.builtin and {0}.state <> 'removed'"
_CREDENTIAL = "{0}.withdrawn_at is null and {0}.disabled_at is null"
_END = "({0}.expires_at at time zone 'UTC')::date"
_MEASURES = {
    "audit_state": ("null::date", {"asked": "asked", "granted": "granted", "used": "used", "waiting": "waiting"}),
    "excess": ("null::date", {"granted": "granted weight", "unused": "unused weight", "early": "early weight"}),
    "excess_change": ("day", {"granted": "granted weight rose", "unused": "unused weight rose"}),
}
_WHAT_EVENTS_SEE = {
    "insert": ("new table as added", "select *, 1 as sign from added"),
    "update": (
        "old table as gone new table as added",
        "select *, 1 as sign from added union all select *, -1 from gone",
    ),
    "delete": ("old table as gone", "select *, -1 as sign from gone"),
}
_ROW_BY_ROW = {
    "client": ("clients", "null::date", _CLIENT, "state, builtin"),
    "credential": ("expiring", _END, _CREDENTIAL, "withdrawn_at, disabled_at, expires_at"),
}


def _function(name: str, body: str) -> str:
    return f"create function {name}() returns trigger language plpgsql as $$\nbegin\n{body}\n    return null;\nend $$"


def _sums(table: str, rows: str) -> str:
    day, measures = _MEASURES[table]
    values = ", ".join(f"('{said}', sign * {column}::double precision)" for column, said in measures.items())
    return f"""
    select directory_id, each.sum_of, {day}, sum(each.amount)
    from ({rows}) rows cross join lateral (values {values}) each (sum_of, amount)
    group by 1, 2, 3
"""  # noqa: S608 - of our own


def _added(row: str, sum_of: str, day: str, counts: str, amount: int) -> str:
    """Note one row by itself, where it counts."""
    return f"""
    if tg_op <> '{"DELETE" if amount > 0 else "INSERT"}' then
        if {counts.format(row)} then
            insert into kept_sum (directory_id, sum_of, day, amount)
            values ({row}.directory_id, '{sum_of}', {day.format(row)}, {amount});
        end if;
    end if;
"""  # noqa: S608 - of our own


def upgrade() -> None:
    op.create_table(
        "kept_sum",
        sa.Column("id", sa.BigInteger(), sa.Identity(), primary_key=True),
        sa.Column("directory_id", sa.Uuid(), sa.ForeignKey("directory.id"), nullable=False),
        sa.Column("sum_of", sa.Text(), nullable=False),
        sa.Column("day", sa.Date(), nullable=True),
        sa.Column("amount", sa.Float(), nullable=False),
        sa.Column("whole", sa.Boolean(), nullable=False, server_default=sa.false()),
    )
    op.create_index("kept_sum_by_day", "kept_sum", ["directory_id", "sum_of", "day"], postgresql_include=["amount"])
    op.create_index("kept_sum_in_parts", "kept_sum", ["id"], postgresql_where=sa.text("not whole"))
    for table in _MEASURES:
        for event, (transition, rows) in _WHAT_EVENTS_SEE.items():
            name = f"sums_of_{table}_{event}"
            body = f"    insert into kept_sum (directory_id, sum_of, day, amount)\n{_sums(table, rows)}"
            op.execute(_function(name, f"{body}    having sum(each.amount) <> 0;"))
            op.execute(
                f"create trigger {name} after {event} on {table} referencing {transition} "
                f"for each statement execute function {name}()"
            )
    for table, (sum_of, day, counts, columns) in _ROW_BY_ROW.items():
        body = _added("new", sum_of, day, counts, 1) + _added("old", sum_of, day, counts, -1)
        op.execute(_function(f"sums_of_{table}", body))
        op.execute(
            f"create trigger sums_of_{table} after insert or delete or update of {columns} on {table} "
            f"for each row execute function sums_of_{table}()"
        )
    parts = [_sums(table, f"select *, 1 as sign from {table}") for table in _MEASURES]  # noqa: S608 - of our own
    parts += [
        f"select directory_id, '{sum_of}', {day.format(table)}, count(*)::double precision "  # noqa: S608 - of our own
        f"from {table} where {counts.format(table)} group by 1, 3"
        for table, (sum_of, day, counts, _) in _ROW_BY_ROW.items()
    ]
    op.execute("create view counted_sum (directory_id, sum_of, day, amount) as " + " union all ".join(parts))
    op.execute(
        "insert into kept_sum (directory_id, sum_of, day, amount, whole) "
        "select directory_id, sum_of, day, amount, true from counted_sum where amount <> 0"
    )


def downgrade() -> None:
    op.execute("drop view counted_sum")
    for table in _ROW_BY_ROW:
        op.execute(f"drop trigger sums_of_{table} on {table}")
        op.execute(f"drop function sums_of_{table}()")
    for table in _MEASURES:
        for event in _WHAT_EVENTS_SEE:
            op.execute(f"drop trigger sums_of_{table}_{event} on {table}")
            op.execute(f"drop function sums_of_{table}_{event}()")
    op.drop_table("kept_sum")
