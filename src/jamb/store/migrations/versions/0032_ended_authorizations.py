"""Find what was ended at a resource without reading all that people ever allowed"""

import sqlalchemy as sa
from alembic import op

revision = "0032"
down_revision = "0031"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_index(
        "authorization_ended",
        "person_authorization",
        ["resource_id", "ended_at"],
        postgresql_where=sa.text("ended_at IS NOT NULL"),
    )


def downgrade() -> None:
    op.drop_index("authorization_ended", "person_authorization")
