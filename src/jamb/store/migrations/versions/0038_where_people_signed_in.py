"""Keep from where, and with which program, a console session was begun: its person sees it"""

import sqlalchemy as sa
from alembic import op

revision = "0038"
down_revision = "0037"
branch_labels = None
depends_on = None


def upgrade() -> None:
    for name in ("address", "user_agent"):
        op.add_column("console_session", sa.Column(name, sa.Text(), nullable=False, server_default=""))


def downgrade() -> None:
    for name in ("address", "user_agent"):
        op.drop_column("console_session", name)
