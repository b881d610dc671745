"""Between which moments the guard of a resource could not count all calls"""

import sqlalchemy as sa
from alembic import op

revision = "0027"
down_revision = "0026"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("resource", sa.Column("uncounted_since", sa.DateTime(timezone=True)))
    op.add_column("resource", sa.Column("uncounted_until", sa.DateTime(timezone=True)))


def downgrade() -> None:
    op.drop_column("resource", "uncounted_until")
    op.drop_column("resource", "uncounted_since")
