"""Where resources answer"""

import sqlalchemy as sa
from alembic import op

revision = "0011"
down_revision = "0010"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("resource", sa.Column("address", sa.Text(), nullable=False, server_default=""))
    op.alter_column("resource", "address", server_default=None)
