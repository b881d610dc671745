"""Grant types of clients: which of those of its kind each uses, since when, and which it was ever seen to use"""

import sqlalchemy as sa
from alembic import op

revision = "0047"
down_revision = "0046"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("client", sa.Column("grant_types", sa.ARRAY(sa.Text()), nullable=False, server_default="{}"))
    # What was used before is not known: all are given their time anew.
    moment = sa.DateTime(timezone=True)
    op.add_column("client", sa.Column("grant_types_since", moment))
    op.execute("update client set grant_types_since = now()")
    op.create_table(
        "client_grant_type",
        sa.Column("client_id", sa.Text(), primary_key=True),
        sa.Column("grant_type", sa.Text(), primary_key=True),
        sa.Column("last_at", moment, nullable=False),
    )
    op.execute(
        "create trigger audit_grant_types after update of grant_types on client for each row "
        "when (new.grant_types is distinct from old.grant_types) execute function audit_note_client()"
    )
    # The day of the last use is told by no rule: only the first one changes what is found.
    op.execute(
        "create trigger audit_grant_type_used after insert on client_grant_type for each row "
        "execute function audit_note()"
    )


def downgrade() -> None:
    op.execute("drop trigger audit_grant_types on client")
    op.drop_table("client_grant_type")
    op.drop_column("client", "grant_types_since")
    op.drop_column("client", "grant_types")
