"""Authorities that issue certificates, and public keys of recipients to which credentials are sealed"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0014"
down_revision = "0013"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "authority",
        sa.Column("id", sa.Uuid(), nullable=False),
        sa.Column("directory_id", sa.Uuid(), sa.ForeignKey("directory.id"), nullable=False),
        sa.Column("certificate", sa.LargeBinary(), nullable=False),
        sa.Column("sealed", sa.LargeBinary(), nullable=False),
        sa.Column("made_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("expires_at", sa.DateTime(timezone=True), nullable=False),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index("ix_authority_directory_id", "authority", ["directory_id"])
    op.add_column("person", sa.Column("recipient_key", JSONB(), nullable=True))
    op.add_column("webhook", sa.Column("recipient_key", JSONB(), nullable=True))
