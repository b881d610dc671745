"""Credentials know their directory, and are found by it and their end"""

from alembic import op

revision = "0054"
down_revision = "0053"
branch_labels = None
depends_on = None

_FUNCTIONS = """
-- Processes of the version before do not say it.
create function credential_directory() returns trigger language plpgsql as $$
begin
    select directory_id into new.directory_id from client where id = new.client_id;
    return new;
end $$;

create trigger credential_directory before insert on credential for each row
    when (new.directory_id is null) execute function credential_directory();
"""


def upgrade() -> None:
    op.execute("alter table credential add column directory_id uuid references directory (id)")
    op.execute(_FUNCTIONS)
    op.execute(
        "update credential set directory_id = client.directory_id from client where client.id = credential.client_id"
    )
    op.execute("alter table credential alter column directory_id set not null")
    op.execute("drop index if exists credential_by_end, credential_by_start")
    op.execute(
        "create index credential_by_end on credential (directory_id, expires_at, id) include (starts_at) "
        "where withdrawn_at is null and disabled_at is null"
    )
    op.execute(
        "create index credential_by_start on credential (directory_id, starts_at) "
        "where withdrawn_at is null and starts_at is not null"
    )
    op.execute("drop index excess_change_by_day")
    op.execute("create index excess_change_by_day on excess_change (directory_id, day) include (granted, unused)")


def downgrade() -> None:
    op.execute("drop index excess_change_by_day")
    op.execute("create index excess_change_by_day on excess_change (directory_id, day)")
    op.execute("drop index credential_by_end, credential_by_start")
    op.execute("drop trigger credential_directory on credential")
    op.execute("drop function credential_directory()")
    op.execute("alter table credential drop column directory_id")
