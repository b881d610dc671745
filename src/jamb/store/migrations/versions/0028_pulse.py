"""A number that is raised each second, by which the age of a standby is told"""

import sqlalchemy as sa
from alembic import op

revision = "0028"
down_revision = "0027"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "pulse",
        sa.Column("number", sa.Integer(), sa.CheckConstraint("number = 1", name="pulse_once"), primary_key=True),
        sa.Column("beats", sa.BigInteger(), nullable=False),
    )
    op.execute("INSERT INTO pulse (number, beats) VALUES (1, 0)")


def downgrade() -> None:
    op.drop_table("pulse")
