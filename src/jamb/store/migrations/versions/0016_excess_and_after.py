"""Redirect URIs, publishers and trials of clients; what was touched and for whom; excess by day; trying out dry;
reviews; and clients that are removed and can be restored"""

from typing import Any

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import ARRAY, JSONB

revision = "0016"
down_revision = "0015"
branch_labels = None
depends_on = None

_MOMENT = sa.DateTime(timezone=True)

_FUNCTIONS = """
create function audit_people_in(top uuid) returns setof uuid language sql stable as $$
    with recursive inside (group_id) as (
        select top union select inner_id from group_inner join inside on group_inner.group_id = inside.group_id
    ) select person_id from group_person join inside using (group_id);
$$;

create function audit_note_owned_by_group(top uuid) returns void language sql as $$
    insert into audit_stale (client_id)
        select distinct client_id from client_owner where person_id in (select audit_people_in(top));
$$;

create function audit_note_assignment() returns trigger language plpgsql as $$
declare held role_assignment;
begin
    held := case when tg_op = 'DELETE' then old else new end;
    if held.person_id is not null then
        insert into audit_stale (client_id) select client_id from client_owner where person_id = held.person_id;
    elsif held.group_id is not null then
        perform audit_note_owned_by_group(held.group_id);
    end if;
    return null;
end $$;

create function audit_note_group_person() returns trigger language plpgsql as $$
begin
    insert into audit_stale (client_id) select client_id from client_owner
        where person_id = case when tg_op = 'DELETE' then old.person_id else new.person_id end;
    return null;
end $$;

create function audit_note_group_inner() returns trigger language plpgsql as $$
begin
    perform audit_note_owned_by_group(case when tg_op = 'DELETE' then old.inner_id else new.inner_id end);
    return null;
end $$;

create or replace function audit_note_role() returns trigger language plpgsql as $$
begin
    insert into audit_stale (client_id)
        select client_id from role_assignment where role_id = new.id and client_id is not null
        union select client_id from client_owner where person_id in (
            select person_id from role_assignment where role_id = new.id and person_id is not null
            union select audit_people_in(group_id) from role_assignment where role_id = new.id and group_id is not null
        );
    return null;
end $$;

-- Who holds something at Jamb's own API is judged by what others hold there, and by which clients there are.
create function audit_note_own(place uuid) returns void language sql as $$
    insert into audit_stale (client_id)
        select client_id from consent join resource on resource.id = resource_id
            where resource.name = 'jamb' and resource.directory_id = place
        union select client_id from role_assignment join role on role.id = role_id join resource
            on resource.id = role.resource_id
            where resource.name = 'jamb' and resource.directory_id = place and client_id is not null;
$$;

create function audit_note_own_consent() returns trigger language plpgsql as $$
declare place uuid;
begin
    select directory_id into place from resource
        where name = 'jamb' and id = case when tg_op = 'DELETE' then old.resource_id else new.resource_id end;
    if found then perform audit_note_own(place); end if;
    return null;
end $$;

create function audit_note_own_role() returns trigger language plpgsql as $$
declare place uuid;
begin
    select resource.directory_id into place from resource join role on role.resource_id = resource.id
        where resource.name = 'jamb' and role.id = case when tg_op = 'DELETE' then old.role_id else new.role_id end;
    if found then perform audit_note_own(place); end if;
    return null;
end $$;

create function audit_note_removal() returns trigger language plpgsql as $$
begin perform audit_note_own(new.directory_id); return null; end $$;

create function audit_note_publisher() returns trigger language plpgsql as $$
begin
    insert into audit_stale (client_id) select id from client
        where directory_id = case when tg_op = 'DELETE' then old.directory_id else new.directory_id end
        and publisher = case when tg_op = 'DELETE' then old.domain else new.domain end;
    return null;
end $$;

create function audit_note_population() returns trigger language plpgsql as $$
begin
    insert into audit_stale (client_id) select distinct client_id from consent join client on client.id = client_id
        where directory_id = new.directory_id and consent.kind = 'delegated' and consent.person_id is null
        and not client.builtin;
    return null;
end $$;
"""
_TRIGGERS = (
    (
        "after update of redirect_uris, publisher, trial_ends_at on client for each row "
        "execute function audit_note_client()"
    ),
    (
        "after update of state on client for each row when (old.state = 'removed' or new.state = 'removed') "
        "execute function audit_note_removal()"
    ),
    "after insert or update or delete on role_assignment for each row execute function audit_note_assignment()",
    "after insert or delete on group_person for each row execute function audit_note_group_person()",
    "after insert or delete on group_inner for each row execute function audit_note_group_inner()",
    "after insert or update or delete on consent for each row execute function audit_note_own_consent()",
    (
        "after insert or update on role_assignment for each row when (new.client_id is not null) "
        "execute function audit_note_own_role()"
    ),
    "after insert on object_use for each row execute function audit_note()",
    "after insert on person_use for each row execute function audit_note()",
    "after insert or delete on publisher for each row execute function audit_note_publisher()",
    "after insert or update of live on person for each row execute function audit_note_population()",
)


def _client() -> sa.Column[Any]:
    return sa.Column("client_id", sa.Text(), sa.ForeignKey("client.id"), nullable=False)


def _uuid(name: str, target: str = "", *, nullable: bool = False) -> sa.Column[Any]:
    keys = [sa.ForeignKey(target)] if target else []
    return sa.Column(name, sa.Uuid(), *keys, nullable=nullable)


def _text(name: str, *, nullable: bool = False) -> sa.Column[Any]:
    return sa.Column(name, sa.Text(), nullable=nullable)


def _moment(name: str, *, nullable: bool = False) -> sa.Column[Any]:
    return sa.Column(name, _MOMENT, nullable=nullable)


def upgrade() -> None:
    op.add_column("client", sa.Column("redirect_uris", ARRAY(sa.Text()), nullable=False, server_default="{}"))
    op.add_column("client", sa.Column("publisher", sa.Text(), nullable=False, server_default=""))
    op.add_column("client", _moment("trial_ends_at", nullable=True))
    op.alter_column("client", "redirect_uris", server_default=None)
    op.alter_column("client", "publisher", server_default=None)

    op.add_column("resource", sa.Column("collections_revision", sa.Integer(), nullable=False, server_default="1"))
    op.alter_column("resource", "collections_revision", server_default=None)

    op.create_table(
        "publisher",
        sa.Column("directory_id", sa.Uuid(), sa.ForeignKey("directory.id"), primary_key=True),
        sa.Column("domain", sa.Text(), primary_key=True),
        _moment("vouched_at"),
        _text("vouched_by"),
        _text("reason"),
    )

    op.create_table(
        "object_use",
        _client(),
        _uuid("resource_id", "resource.id"),
        _text("operation"),
        _text("object"),
        _moment("last_at"),
        sa.PrimaryKeyConstraint("client_id", "resource_id", "operation", "object"),
    )
    op.create_table(
        "person_use",
        _client(),
        _uuid("resource_id", "resource.id"),
        _uuid("person_id", "person.id"),
        _moment("last_at"),
        sa.PrimaryKeyConstraint("client_id", "resource_id", "person_id"),
    )

    op.create_table(
        "excess",
        sa.Column("client_id", sa.Text(), sa.ForeignKey("client.id", ondelete="CASCADE"), nullable=False),
        _uuid("resource_id", "resource.id"),
        _uuid("directory_id", "directory.id"),
        *(sa.Column(name, sa.Float(), nullable=False) for name in ("granted", "unused", "early")),
        sa.PrimaryKeyConstraint("client_id", "resource_id"),
    )
    op.create_index("excess_by_directory", "excess", ["directory_id", "resource_id"])
    op.create_table(
        "excess_change",
        sa.Column("client_id", sa.Text(), sa.ForeignKey("client.id", ondelete="CASCADE"), nullable=False),
        _uuid("resource_id", "resource.id"),
        _uuid("directory_id", "directory.id"),
        sa.Column("day", sa.Date(), nullable=False),
        *(sa.Column(name, sa.Float(), nullable=False) for name in ("granted", "unused")),
        sa.PrimaryKeyConstraint("client_id", "resource_id", "day"),
    )
    op.create_index("excess_change_by_day", "excess_change", ["directory_id", "day"])

    for name in ("weight", "asked", "granted", "used", "waiting"):
        op.add_column("audit_state", sa.Column(name, sa.Integer(), nullable=False, server_default="0"))
        op.alter_column("audit_state", name, server_default=None)
    op.create_index(
        "audit_state_waiting", "audit_state", ["directory_id", "client_id"], postgresql_where=sa.text("waiting > 0")
    )

    op.add_column("finding", _uuid("directory_id", "directory.id", nullable=True))
    op.execute("update finding set directory_id = client.directory_id from client where client.id = client_id")
    op.alter_column("finding", "directory_id", nullable=False)
    op.create_index(
        "finding_open",
        "finding",
        ["directory_id", sa.text("severity desc"), "rule", "id"],
        postgresql_where=sa.text("gone_at is null"),
    )
    op.create_index("finding_gone", "finding", ["directory_id", "gone_at"])

    op.create_table(
        "narrowing",
        sa.Column("id", sa.Uuid(), primary_key=True),
        _client(),
        _uuid("resource_id", "resource.id"),
        sa.Column("permissions", ARRAY(sa.Text()), nullable=False),
        sa.Column("reach", JSONB(), nullable=True),
        sa.Column("replaces", JSONB(), nullable=False),
        _moment("started_at"),
        _text("started_by"),
        _moment("dry_until"),
        _text("reason"),
        _moment("ended_at", nullable=True),
        _text("ended_by"),
        _text("outcome"),
    )
    op.create_index(
        "narrowing_once",
        "narrowing",
        ["client_id", "resource_id"],
        unique=True,
        postgresql_where=sa.text("ended_at is null"),
    )
    op.create_table(
        "narrowing_miss",
        sa.Column("narrowing_id", sa.Uuid(), sa.ForeignKey("narrowing.id", ondelete="CASCADE"), nullable=False),
        _text("operation"),
        _text("object"),
        sa.Column("calls", sa.BigInteger(), nullable=False),
        _moment("last_at"),
        sa.PrimaryKeyConstraint("narrowing_id", "operation", "object"),
    )

    op.create_table(
        "removal",
        sa.Column("client_id", sa.Text(), sa.ForeignKey("client.id"), primary_key=True),
        _uuid("directory_id", "directory.id"),
        _moment("removed_at"),
        _text("removed_by"),
        _text("reason"),
        _moment("restore_until"),
        _text("name"),
        sa.Column("ended", JSONB(), nullable=False),
    )

    op.create_table(
        "review",
        sa.Column("id", sa.Uuid(), primary_key=True),
        _uuid("directory_id", "directory.id"),
        _text("name"),
        sa.Column("scope", JSONB(), nullable=False),
        _moment("started_at"),
        _text("started_by"),
        _moment("ends_at"),
        _moment("closed_at", nullable=True),
        _text("closed_by"),
    )
    op.create_index("review_by_directory", "review", ["directory_id", "started_at"])
    op.create_table(
        "review_item",
        sa.Column("id", sa.Uuid(), primary_key=True),
        sa.Column("review_id", sa.Uuid(), sa.ForeignKey("review.id"), nullable=False),
        _client(),
        _uuid("resource_id", "resource.id"),
        _text("permission"),
        _text("kind"),
        _text("through"),
        sa.Column("reach", JSONB(), nullable=True),
        sa.Column("weight", sa.Float(), nullable=False),
        _text("answer"),
        _text("words"),
        sa.Column("narrower", JSONB(), nullable=True),
        _moment("answered_at", nullable=True),
        _text("answered_by"),
        _moment("done_at", nullable=True),
        _text("done_by"),
        sa.UniqueConstraint(
            "review_id", "client_id", "resource_id", "permission", "kind", "through", name="reviewed_once"
        ),
    )
    op.create_index("review_item_by_client", "review_item", ["client_id"])

    op.execute(_FUNCTIONS)
    for number, trigger in enumerate(_TRIGGERS, 20):
        op.execute(f"create trigger audit_{number:02} {trigger}")
    # More rules, and more to keep of each: everybody is looked at anew.
    op.execute("insert into audit_stale (client_id) select id from client")
