"""Logos of clients, and which of them look alike"""

import sqlalchemy as sa
from alembic import op

revision = "0051"
down_revision = "0050"
branch_labels = None
depends_on = None

_FUNCTIONS = """
-- Whose logo looks like one of these is looked at again where it is of another publisher: a house has one for many.
create function audit_note_looks(directory uuid, looks text[], before text, now text) returns void language sql as $$
    insert into audit_stale (client_id)
        select client_id from client_logo join client on client.id = client_id
            where client_logo.directory_id = directory and bands && looks and (publisher <> before or publisher <> now);
$$;

create function audit_note_logo() returns trigger language plpgsql as $$
declare mine text;
begin
    select publisher into mine from client where id = coalesce(new.client_id, old.client_id);
    insert into audit_stale (client_id) values (coalesce(new.client_id, old.client_id));
    if tg_op <> 'INSERT' then perform audit_note_looks(old.directory_id, old.bands, mine, mine); end if;
    if tg_op <> 'DELETE' then perform audit_note_looks(new.directory_id, new.bands, mine, mine); end if;
    return null;
end $$;

create function audit_note_logo_of() returns trigger language plpgsql as $$
begin
    perform audit_note_looks(directory_id, bands, old.publisher, new.publisher)
        from client_logo where client_id = new.id;
    return null;
end $$;
"""


def upgrade() -> None:
    op.add_column("client", sa.Column("logo", sa.Text(), nullable=False, server_default=""))
    op.create_table(
        "client_logo",
        sa.Column("client_id", sa.Text(), sa.ForeignKey("client.id"), primary_key=True),
        sa.Column("directory_id", sa.Uuid(), sa.ForeignKey("directory.id"), nullable=False),
        sa.Column("digest", sa.Text(), nullable=False),
        sa.Column("look", sa.BigInteger(), nullable=False),
        sa.Column("bands", sa.ARRAY(sa.Text()), nullable=False),
        sa.Column("image", sa.LargeBinary(), nullable=False),
    )
    op.create_index("client_logo_by_digest", "client_logo", ["directory_id", "digest"])
    op.create_index("client_logo_by_look", "client_logo", ["bands"], postgresql_using="gin")
    op.execute(_FUNCTIONS)
    op.execute(
        "create trigger audit_logo after insert or update or delete on client_logo for each row "
        "execute function audit_note_logo()"
    )
    op.execute(
        "create trigger audit_logo_of after update of state, publisher, name on client for each row "
        "when (new.logo <> '' and (old.state, old.publisher, old.name) is distinct from (new.state, new.publisher, "
        "new.name)) execute function audit_note_logo_of()"
    )


def downgrade() -> None:
    op.execute("drop trigger audit_logo_of on client")
    op.drop_table("client_logo")
    op.execute("drop function audit_note_logo_of(), audit_note_logo(), audit_note_looks(uuid, text[], text, text)")
    op.drop_column("client", "logo")
