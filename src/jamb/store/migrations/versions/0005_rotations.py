"""Rotations of credentials"""

import sqlalchemy as sa
from alembic import op

revision = "0005"
down_revision = "0004"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "rotation",
        sa.Column("id", sa.Uuid(), nullable=False),
        sa.Column("directory_id", sa.Uuid(), nullable=False),
        sa.Column("client_id", sa.Text(), nullable=False),
        sa.Column("old_id", sa.Uuid(), nullable=False),
        sa.Column("new_id", sa.Uuid(), nullable=False),
        sa.Column("opened_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("opened_by", sa.Text(), nullable=False),
        sa.Column("overlap_ends_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("quiet_seconds", sa.Integer(), nullable=False),
        sa.Column("ended", sa.Text(), nullable=True),
        sa.Column("ended_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("ended_by", sa.Text(), nullable=False),
        sa.Column("forced", sa.Boolean(), nullable=False),
        sa.ForeignKeyConstraint(["client_id"], ["client.id"]),
        sa.ForeignKeyConstraint(["directory_id"], ["directory.id"]),
        sa.ForeignKeyConstraint(["new_id"], ["credential.id"]),
        sa.ForeignKeyConstraint(["old_id"], ["credential.id"]),
        sa.PrimaryKeyConstraint("id"),
    )
    still_open = sa.text("ended IS NULL")
    op.create_index("ix_rotation_client_id", "rotation", ["client_id"])
    op.create_index("rotation_of_credential", "rotation", ["old_id"], unique=True, postgresql_where=still_open)
    op.create_index("rotation_to_credential", "rotation", ["new_id"], unique=True, postgresql_where=still_open)
    op.create_index("rotation_open", "rotation", ["directory_id", "overlap_ends_at"], postgresql_where=still_open)
    op.create_index("rotation_ended", "rotation", ["directory_id", "ended_at"])
