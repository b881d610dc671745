"""Let people sign in by outside OpenID providers"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0043"
down_revision = "0042"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "sign_in_provider",
        sa.Column("id", sa.Uuid(), primary_key=True),
        sa.Column("directory_id", sa.Uuid(), sa.ForeignKey("directory.id"), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("title", sa.Text(), nullable=False),
        sa.Column("issuer", sa.Text(), nullable=False),
        sa.Column("client_id", sa.Text(), nullable=False),
        sa.Column("secret", sa.LargeBinary(), nullable=True),
        sa.Column("adds_people", sa.Boolean(), nullable=False),
        sa.Column("groups_claim", sa.Text(), nullable=False),
        sa.Column("groups", JSONB(), nullable=False),
        sa.Column("made_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("made_by", sa.Text(), nullable=False),
    )
    op.create_index("provider_name_taken", "sign_in_provider", ["directory_id", "name"], unique=True)
    op.create_table(
        "provider_subject",
        sa.Column("provider_id", sa.Uuid(), sa.ForeignKey("sign_in_provider.id", ondelete="CASCADE"), primary_key=True),
        sa.Column("subject", sa.Text(), primary_key=True),
        sa.Column("person_id", sa.Uuid(), sa.ForeignKey("person.id", ondelete="CASCADE"), nullable=False, index=True),
        sa.Column("linked_at", sa.DateTime(timezone=True), nullable=False),
    )
    for table in ("console_session", "person_authorization"):
        op.add_column(table, sa.Column("provider", sa.Text(), nullable=False, server_default=""))


def downgrade() -> None:
    for table in ("person_authorization", "console_session"):
        op.drop_column(table, "provider")
    op.drop_table("provider_subject")
    op.drop_table("sign_in_provider")
