"""Links that only a letter shows"""

import sqlalchemy as sa
from alembic import op

revision = "0012"
down_revision = "0011"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("notice", sa.Column("link", sa.LargeBinary(), nullable=True))
