"""Escalation paths are found by rounds where it takes long: how long it took, and when somebody asked"""

import sqlalchemy as sa
from alembic import op

revision = "0053"
down_revision = "0052"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("escalation", sa.Column("took_seconds", sa.Float(), nullable=False, server_default="0"))
    op.add_column("escalation", sa.Column("asked_at", sa.DateTime(timezone=True)))
    op.alter_column("escalation", "made_at", nullable=True)
    op.alter_column("escalation", "found", nullable=True)


def downgrade() -> None:
    op.execute("delete from escalation where found is null")
    op.alter_column("escalation", "found", nullable=False)
    op.alter_column("escalation", "made_at", nullable=False)
    op.drop_column("escalation", "asked_at")
    op.drop_column("escalation", "took_seconds")
