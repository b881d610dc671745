"""Certificates, key sets and outside issuers beside secrets; assertions that were seen"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0004"
down_revision = "0003"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.alter_column("credential", "digest", nullable=True)
    for name in ("label", "subject", "issuer", "keys_uri"):
        op.add_column("credential", sa.Column(name, sa.Text(), nullable=False, server_default=sa.text("''")))
        op.alter_column("credential", name, server_default=None)
    for name in ("starts_at", "disabled_at"):
        op.add_column("credential", sa.Column(name, sa.DateTime(timezone=True), nullable=True))
    op.add_column("credential", sa.Column("certificate", sa.LargeBinary(), nullable=True))
    op.add_column("credential", sa.Column("keys", postgresql.JSONB(), nullable=True))
    op.add_column("credential", sa.Column("key_thumbprints", postgresql.ARRAY(sa.Text()), nullable=True))
    op.create_table(
        "assertion_seen",
        sa.Column("client_id", sa.Text(), nullable=False),
        sa.Column("digest", sa.LargeBinary(), nullable=False),
        sa.Column("expires_at", sa.DateTime(timezone=True), nullable=False),
        sa.ForeignKeyConstraint(["client_id"], ["client.id"]),
        sa.PrimaryKeyConstraint("client_id", "digest"),
    )
    op.create_index("assertion_seen_by_end", "assertion_seen", ["expires_at"])
