"""Certificates by when they were registered, for whoever ends TLS"""

from alembic import op

revision = "0048"
down_revision = "0047"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.execute("create index credential_certificates on credential (issued_at) where certificate is not null")


def downgrade() -> None:
    op.execute("drop index credential_certificates")
