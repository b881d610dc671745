"""The audit is told of more that bears on it: states and names of clients, roles at Jamb's own API, names of people"""

from alembic import op

revision = "0021"
down_revision = "0020"
branch_labels = None
depends_on = None

_FUNCTIONS = """
create or replace function audit_note_person() returns trigger language plpgsql as $$
begin
    insert into audit_stale (client_id)
        select client_id from client_owner where person_id = new.id
        union select client_id from person_use where person_id = new.id;
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
    # Whom a client can take over is judged by who lives, and told by their names.
    (
        "after update of state, name on client for each row "
        "when (old.state is distinct from new.state or old.name is distinct from new.name) "
        "execute function audit_note_removal()"
    ),
    "after update of permissions, removed_at on role for each row execute function audit_note_own_bundle()",
    "after update of domain on directory for each row execute function audit_note_policy()",
)


def upgrade() -> None:
    op.execute(_FUNCTIONS)
    # Of removals alone: one of those below tells of them too.
    op.execute("drop trigger audit_21 on client")
    for number, trigger in enumerate(_TRIGGERS, 50):
        op.execute(f"create trigger audit_{number:02} {trigger}")
    # The rules find more, and say some of it otherwise: everybody is looked at anew.
    op.execute("insert into audit_stale (client_id) select id from client")
