"""Which code may go on with a schema that is newer than its own"""

import sqlalchemy as sa
from alembic import op

revision = "0026"
down_revision = "0025"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "schema_floor",
        sa.Column("number", sa.Integer(), sa.CheckConstraint("number = 1", name="schema_floor_once"), primary_key=True),
        sa.Column("oldest", sa.Text(), nullable=False),
    )
    op.execute("INSERT INTO schema_floor (number, oldest) VALUES (1, '0026')")


def downgrade() -> None:
    op.drop_table("schema_floor")
