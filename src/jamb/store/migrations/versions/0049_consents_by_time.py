"""Consents by when they were given, for the list of a whole directory"""

from alembic import op

revision = "0049"
down_revision = "0048"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_index("consent_by_time", "consent", ["granted_at", "id"])


def downgrade() -> None:
    op.drop_index("consent_by_time")
