"""How far each directory was told of, and credentials by their end"""

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
    op.create_index(
        "credential_by_end",
        "credential",
        ["expires_at"],
        postgresql_where=sa.text("withdrawn_at IS NULL AND expires_at IS NOT NULL"),
    )
    op.create_index(
        "credential_by_start",
        "credential",
        ["starts_at"],
        postgresql_where=sa.text("withdrawn_at IS NULL AND starts_at IS NOT NULL"),
    )


def downgrade() -> None:
    op.drop_index("credential_by_start", "credential")
    op.drop_index("credential_by_end", "credential")
    op.drop_table("notice_round")
