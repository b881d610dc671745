"""A registration says where its users get help"""

import sqlalchemy as sa
from alembic import op

revision = "0023"
down_revision = "0022"
branch_labels = None
depends_on = None


def upgrade() -> None:
    # The default stays: a service of the version before adds clients meanwhile.
    op.add_column("client", sa.Column("support_contact", sa.Text(), nullable=False, server_default=""))


def downgrade() -> None:
    op.drop_column("client", "support_contact")
