"""What ended within the seconds of one change is found by an index"""

import sqlalchemy as sa
from alembic import op

revision = "0056"
down_revision = "0055"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_index(
        "authorization_by_ending",
        "person_authorization",
        ["ended_at"],
        postgresql_where=sa.text("ended_at IS NOT NULL"),
    )


def downgrade() -> None:
    op.drop_index("authorization_by_ending", "person_authorization")
