"""From where tokens were got, for whom what was done, which names look alike; and the audit is told of more"""

import sqlalchemy as sa
from alembic import op

from jamb.core.clients.clients import look_of

revision = "0021"
down_revision = "0020"
branch_labels = None
depends_on = None

_FUNCTIONS = """
create or replace function audit_note_person() returns trigger language plpgsql as $$
begin
    insert into audit_stale (client_id)
        select client_id from client_owner where person_id = new.id
        union select client_id from person_use where person_id = new.id
        union select client_id from consent where person_id = new.id;
    return null;
end $$;

-- A new client is the last of those that look like it: only what becomes of an earlier one bears on others.
create function audit_note_alike() returns trigger language plpgsql as $$
begin
    insert into audit_stale (client_id) select id from client
        where directory_id = new.directory_id and look in (old.look, new.look) and look <> '' and id <> new.id;
    return null;
end $$;

-- Whom a client can take over is judged by who lives, and told by names: of those that hold something there.
create function audit_note_own_client() returns trigger language plpgsql as $$
begin
    if old.state = 'removed' or new.state = 'removed' or exists (
        select from consent join resource on resource.id = resource_id
            where client_id = new.id and resource.name = 'jamb'
    ) or exists (
        select from role_assignment join role on role.id = role_id join resource on resource.id = role.resource_id
            where client_id = new.id and resource.name = 'jamb'
    ) then perform audit_note_own(new.directory_id); end if;
    return null;
end $$;

create function audit_note_own_bundle() returns trigger language plpgsql as $$
declare place uuid;
begin
    select directory_id into place from resource where name = 'jamb' and id = new.resource_id;
    if found then perform audit_note_own(place); end if;
    return null;
end $$;
"""
_TRIGGERS = (
    (
        "after update of state, name on client for each row "
        "when (old.state is distinct from new.state or old.name is distinct from new.name) "
        "execute function audit_note_own_client()"
    ),
    "after update of permissions, removed_at on role for each row execute function audit_note_own_bundle()",
    "after update of look, state, name on client for each row execute function audit_note_alike()",
    "after insert or delete on client_network for each row execute function audit_note()",
    # Of a day that is over; what is counted today is looked at tomorrow.
    (
        "after update of calls on usage for each row when (new.day < (now() at time zone 'UTC')::date) "
        "execute function audit_note()"
    ),
    "after update of domain on directory for each row execute function audit_note_policy()",
)


_MOMENT = sa.DateTime(timezone=True)


def upgrade() -> None:
    op.add_column("client", sa.Column("look", sa.Text(), nullable=False, server_default=""))
    op.create_index("client_by_look", "client", ["directory_id", "look"])
    names = op.get_bind().execute(sa.text("select id, name from client")).all()
    looks = [{"id": key, "look": look_of(name)} for key, name in names]
    if looks:
        op.get_bind().execute(sa.text("update client set look = :look where id = :id"), looks)
    op.add_column("person_use", sa.Column("operation", sa.Text(), nullable=False, server_default=""))
    op.drop_constraint("person_use_pkey", "person_use")
    op.create_primary_key("person_use_pkey", "person_use", ["client_id", "resource_id", "operation", "person_id"])
    op.alter_column("person_use", "operation", server_default=None)
    op.create_table(
        "client_network",
        sa.Column("client_id", sa.Text(), primary_key=True),
        sa.Column("network", sa.Text(), primary_key=True),
        sa.Column("first_at", _MOMENT, nullable=False),
        sa.Column("last_at", _MOMENT, nullable=False),
    )
    op.execute(_FUNCTIONS)
    # Of removals alone: one of those below tells of them too.
    op.execute("drop trigger audit_21 on client")
    op.execute("drop function audit_note_removal()")
    for number, trigger in enumerate(_TRIGGERS, 50):
        op.execute(f"create trigger audit_{number:02} {trigger}")
    # The rules find more, and say some of it otherwise: everybody is looked at anew.
    op.execute("insert into audit_stale (client_id) select id from client")
