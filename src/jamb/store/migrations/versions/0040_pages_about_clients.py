"""Keep the pages about a client that its users are shown: itself, its privacy policy, its terms"""

import sqlalchemy as sa
from alembic import op

revision = "0040"
down_revision = "0039"
branch_labels = None
depends_on = None
_PAGES = ("client_uri", "policy_uri", "tos_uri")


def upgrade() -> None:
    for name in _PAGES:
        op.add_column("client", sa.Column(name, sa.Text(), nullable=False, server_default=""))


def downgrade() -> None:
    for name in _PAGES:
        op.drop_column("client", name)
