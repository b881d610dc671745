"""The escalation paths of a directory, kept until something changes"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0050"
down_revision = "0049"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "escalation",
        sa.Column("directory_id", sa.Uuid(), sa.ForeignKey("directory.id"), primary_key=True),
        sa.Column("sequence", sa.BigInteger(), nullable=False),
        sa.Column("made_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("until", sa.DateTime(timezone=True), nullable=False),
        sa.Column("found", postgresql.JSONB(), nullable=False),
    )


def downgrade() -> None:
    op.drop_table("escalation")
