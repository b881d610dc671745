"""Handovers"""

import sqlalchemy as sa
from alembic import op

revision = "0008"
down_revision = "0007"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "handover",
        sa.Column("id", sa.Uuid(), nullable=False),
        sa.Column("directory_id", sa.Uuid(), nullable=False),
        sa.Column("client_id", sa.Text(), nullable=False),
        sa.Column("credential_id", sa.Uuid(), nullable=False),
        sa.Column("digest", sa.LargeBinary(), nullable=False),
        sa.Column("sealed", sa.LargeBinary(), nullable=True),
        sa.Column("has_passphrase", sa.Boolean(), nullable=False),
        sa.Column("note", sa.Text(), nullable=False),
        sa.Column("made_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("made_by", sa.Text(), nullable=False),
        sa.Column("expires_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("opened_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("opened_from", sa.Text(), nullable=False),
        sa.Column("opened_with", sa.Text(), nullable=False),
        sa.Column("withdrawn_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("wrong_tries", sa.Integer(), nullable=False),
        sa.Column("late_tries", sa.Integer(), nullable=False),
        sa.Column("late_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("late_from", sa.Text(), nullable=False),
        sa.ForeignKeyConstraint(["client_id"], ["client.id"]),
        sa.ForeignKeyConstraint(["credential_id"], ["credential.id"]),
        sa.ForeignKeyConstraint(["directory_id"], ["directory.id"]),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index("handover_of_directory", "handover", ["directory_id", "made_at"])
    op.create_index("ix_handover_client_id", "handover", ["client_id"])
