"""People choose their password by a link; the sealing key leaves a mark; a directory can be suspended"""

import sqlalchemy as sa
from alembic import op

revision = "0024"
down_revision = "0023"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "sign_in_link",
        sa.Column("id", sa.Uuid(), primary_key=True),
        sa.Column("directory_id", sa.Uuid(), sa.ForeignKey("directory.id"), nullable=False, index=True),
        sa.Column("person_id", sa.Uuid(), sa.ForeignKey("person.id"), nullable=False, index=True),
        sa.Column("made_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("made_by", sa.Text(), nullable=False),
        sa.Column("made_by_id", sa.Text(), nullable=False, index=True),
        sa.Column("mailed", sa.Boolean(), nullable=False),
        sa.Column("expires_at", sa.DateTime(timezone=True), nullable=False, index=True),
        sa.Column("used_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("replaced_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("late_tries", sa.Integer(), nullable=False),
    )
    op.add_column("directory", sa.Column("suspended_at", sa.DateTime(timezone=True), nullable=True))
    op.create_table(
        "sealing_mark",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("mark", sa.LargeBinary(), nullable=False),
        sa.Column("made_at", sa.DateTime(timezone=True), nullable=False),
    )


def downgrade() -> None:
    op.drop_table("sealing_mark")
    op.drop_column("directory", "suspended_at")
    op.drop_table("sign_in_link")
