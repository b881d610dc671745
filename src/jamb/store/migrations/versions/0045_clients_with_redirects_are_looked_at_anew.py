"""Clients with redirect URIs are looked at anew: the rules about them came after their findings were kept"""

from alembic import op

revision = "0045"
down_revision = "0044"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.execute("insert into audit_stale (client_id) select id from client where redirect_uris <> '{}'")


def downgrade() -> None:
    """Leave what is noted: to look once more changes nothing."""
