"""Changes named by a key of the caller's"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0007"
down_revision = "0006"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "done_once",
        sa.Column("directory_id", sa.Uuid(), nullable=False),
        sa.Column("actor_id", sa.Text(), nullable=False),
        sa.Column("key", sa.Text(), nullable=False),
        sa.Column("request", sa.LargeBinary(), nullable=False),
        sa.Column("made", postgresql.JSONB(none_as_null=True), nullable=False),
        sa.Column("at", sa.DateTime(timezone=True), nullable=False),
        sa.ForeignKeyConstraint(["directory_id"], ["directory.id"]),
        sa.PrimaryKeyConstraint("directory_id", "actor_id", "key", name="done_once_key"),
    )
