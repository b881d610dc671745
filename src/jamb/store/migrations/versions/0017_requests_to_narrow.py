"""Requests that ask for a narrower grant to be put in force"""

import sqlalchemy as sa
from alembic import op

revision = "0017"
down_revision = "0016"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("consent_request", sa.Column("narrowing_id", sa.Uuid(), sa.ForeignKey("narrowing.id"), nullable=True))
    op.create_index("ix_consent_request_narrowing_id", "consent_request", ["narrowing_id"])
