"""Keep the key to which a public client's refresh tokens are bound"""

import sqlalchemy as sa
from alembic import op

revision = "0033"
down_revision = "0032"
branch_labels = None
depends_on = None


def upgrade() -> None:
    # The default stays: a process of before writes rows beside one of now.
    op.add_column("person_authorization", sa.Column("bound_to", sa.Text(), nullable=False, server_default=""))


def downgrade() -> None:
    op.drop_column("person_authorization", "bound_to")
