"""How far each directory was told of"""

import sqlalchemy as sa
from alembic import op

revision = "0052"
down_revision = "0051"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "notice_round",
        sa.Column("directory_id", sa.Uuid(), sa.ForeignKey("directory.id"), primary_key=True),
        sa.Column("sequence", sa.BigInteger(), nullable=False),
        sa.Column("told_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("whole_at", sa.DateTime(timezone=True), nullable=False),
    )


def downgrade() -> None:
    op.drop_table("notice_round")
