"""Token requests by time: to forget the old, and to say from where a credential is used"""

from alembic import op

revision = "0013"
down_revision = "0012"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_index("attempt_by_time", "attempt", ["directory_id", "at"])
    op.create_index("attempt_of_client_by_time", "attempt", ["client_id", "at"])
