"""Findings with their history, and which clients have changed since they were last looked at"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0015"
down_revision = "0014"
branch_labels = None
depends_on = None

# Notes are only ever added, so that whoever changes a client waits for nobody, and taken by whoever looks at it again.
_FUNCTIONS = """
create function audit_note_client() returns trigger language plpgsql as $$
begin insert into audit_stale (client_id) values (new.id); return null; end $$;

create function audit_note() returns trigger language plpgsql as $$
begin
    if tg_op = 'DELETE' then insert into audit_stale (client_id) values (old.client_id);
    else insert into audit_stale (client_id) values (new.client_id); end if;
    return null;
end $$;

create function audit_note_person() returns trigger language plpgsql as $$
begin
    insert into audit_stale (client_id) select client_id from client_owner where person_id = new.id;
    return null;
end $$;

create function audit_note_role() returns trigger language plpgsql as $$
begin
    insert into audit_stale (client_id)
        select distinct client_id from role_assignment where role_id = new.id and client_id is not null;
    return null;
end $$;

create function audit_note_resource(changed uuid) returns void language sql as $$
    insert into audit_stale (client_id)
        select client_id from ask where resource_id = changed
        union select client_id from consent where resource_id = changed
        union select client_id from role_assignment join role on role.id = role_id
            where resource_id = changed and client_id is not null;
$$;

create function audit_note_catalogue() returns trigger language plpgsql as $$
begin perform audit_note_resource(new.id); return null; end $$;

create function audit_note_collections() returns trigger language plpgsql as $$
begin perform audit_note_resource(resource_id) from (select distinct resource_id from touched) one; return null; end $$;

create function audit_note_policy() returns trigger language plpgsql as $$
begin insert into audit_stale (client_id) select id from client where directory_id = new.id; return null; end $$;
"""
_DAY = "({0}.last_used_at at time zone 'UTC')::date"
_TRIGGERS = (
    "after insert or update of name, purpose, kind, state on client for each row execute function audit_note_client()",
    "after insert or update or delete on client_owner for each row execute function audit_note()",
    "after insert or update or delete on ask for each row execute function audit_note()",
    "after insert or update or delete on consent for each row execute function audit_note()",
    "after insert or delete on credential for each row execute function audit_note()",
    # Each token says when its credential was used: only another day is news.
    (
        "after update on credential for each row when (old.expires_at is distinct from new.expires_at "
        "or old.withdrawn_at is distinct from new.withdrawn_at or old.disabled_at is distinct from new.disabled_at "
        "or old.starts_at is distinct from new.starts_at or old.issued_at is distinct from new.issued_at "
        f"or {_DAY.format('old')} is distinct from {_DAY.format('new')}) execute function audit_note()"
    ),
    "after insert or update or delete on rotation for each row execute function audit_note()",
    (
        "after insert or update on role_assignment for each row when (new.client_id is not null) "
        "execute function audit_note()"
    ),
    "after delete on role_assignment for each row when (old.client_id is not null) execute function audit_note()",
    "after insert on usage for each row execute function audit_note()",
    (
        "after insert on attempt for each row when (new.hint <> '' and new.outcome in ('secret-expired', "
        "'secret-withdrawn', 'credential-disabled', 'key-expired', 'key-withdrawn')) execute function audit_note()"
    ),
    "after update of live, name on person for each row execute function audit_note_person()",
    "after update of name, permissions, removed_at on role for each row execute function audit_note_role()",
    "after update on resource for each row execute function audit_note_catalogue()",
    (
        "after insert on collection referencing new table as touched for each statement "
        "execute function audit_note_collections()"
    ),
    (
        "after delete on collection referencing old table as touched for each statement "
        "execute function audit_note_collections()"
    ),
    "after update of policy on directory for each row execute function audit_note_policy()",
)


def upgrade() -> None:
    op.create_table(
        "finding",
        sa.Column("id", sa.Uuid(), primary_key=True),
        sa.Column("client_id", sa.Text(), sa.ForeignKey("client.id", ondelete="CASCADE"), nullable=False),
        sa.Column("rule", sa.Text(), nullable=False),
        sa.Column("subject", sa.Text(), nullable=False),
        sa.Column("severity", sa.Integer(), nullable=False),
        sa.Column("title", sa.Text(), nullable=False),
        sa.Column("evidence", JSONB(), nullable=False),
        sa.Column("mend", sa.Text(), nullable=False),
        sa.Column("act", sa.Text(), nullable=False),
        sa.Column("target", sa.Text(), nullable=False),
        sa.Column("first_seen_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("gone_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("returned", sa.Integer(), nullable=False),
        sa.Column("waived_until", sa.DateTime(timezone=True), nullable=True),
        sa.Column("waived_by", sa.Text(), nullable=False),
        sa.Column("waived_reason", sa.Text(), nullable=False),
        sa.Column("assigned_to", sa.Uuid(), sa.ForeignKey("person.id"), nullable=True),
        sa.Column("answer", sa.Text(), nullable=False),
        sa.UniqueConstraint("client_id", "rule", "subject", name="finding_identity"),
    )
    op.create_table(
        "audit_state",
        sa.Column("client_id", sa.Text(), sa.ForeignKey("client.id", ondelete="CASCADE"), primary_key=True),
        sa.Column("directory_id", sa.Uuid(), sa.ForeignKey("directory.id"), nullable=False),
        sa.Column("looked_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("next_at", sa.DateTime(timezone=True), nullable=True),
    )
    op.create_index("audit_state_due", "audit_state", ["directory_id", "next_at"])
    op.create_table(
        "audit_stale",
        sa.Column("id", sa.BigInteger(), sa.Identity(), primary_key=True),
        sa.Column("client_id", sa.Text(), nullable=False),
    )
    op.create_index("audit_stale_client", "audit_stale", ["client_id"])
    op.execute(_FUNCTIONS)
    for number, trigger in enumerate(_TRIGGERS):
        op.execute(f"create trigger audit_{number:02} {trigger}")
    op.execute("insert into audit_stale (client_id) select id from client")
