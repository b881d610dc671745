"""Fingerprints by which leaked secrets are looked up"""

import sqlalchemy as sa
from alembic import op

revision = "0006"
down_revision = "0005"
branch_labels = None
depends_on = None


def upgrade() -> None:
    # Secrets of before have none: from their digest it cannot be made.
    op.add_column("credential", sa.Column("fingerprint", sa.LargeBinary(), nullable=True))
    op.create_index("credential_fingerprint", "credential", ["fingerprint"])
