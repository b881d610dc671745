"""Keep to which groups' people a client is restricted"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0036"
down_revision = "0035"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column(
        "client", sa.Column("sign_in_groups", postgresql.ARRAY(sa.Text()), nullable=False, server_default="{}")
    )


def downgrade() -> None:
    op.drop_column("client", "sign_in_groups")
