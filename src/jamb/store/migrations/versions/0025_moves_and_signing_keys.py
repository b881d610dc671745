"""The service moves; signing keys are rotated and withdrawn; another sealing key takes the place of one"""

import sqlalchemy as sa
from alembic import op

revision = "0025"
down_revision = "0024"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "former_address",
        sa.Column("url", sa.Text(), primary_key=True),
        sa.Column("until", sa.DateTime(timezone=True), nullable=False, index=True),
    )
    # What was there signs already.
    op.add_column(
        "signing_key",
        sa.Column("signs_from", sa.DateTime(timezone=True), nullable=False, server_default=sa.text("'-infinity'")),
    )
    op.execute("UPDATE signing_key SET signs_from = created_at")
    op.alter_column("signing_key", "signs_from", server_default=sa.text("now()"))
    op.add_column("signing_key", sa.Column("withdrawn_at", sa.DateTime(timezone=True), nullable=True))
    op.add_column("sealing_mark", sa.Column("root", sa.LargeBinary(), nullable=True))
    op.create_unique_constraint("sealing_mark_once", "sealing_mark", ["mark"])
    # The first is kept as number 1, whoever of several keeps it.
    op.execute("ALTER SEQUENCE sealing_mark_id_seq RESTART WITH 2")


def downgrade() -> None:
    op.drop_constraint("sealing_mark_once", "sealing_mark")
    op.drop_column("sealing_mark", "root")
    op.drop_column("signing_key", "withdrawn_at")
    op.drop_column("signing_key", "signs_from")
    op.drop_table("former_address")
