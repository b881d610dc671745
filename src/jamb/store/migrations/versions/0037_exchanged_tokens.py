"""Keep which tokens for people were exchanged, so that they end with what they came from"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0037"
down_revision = "0036"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "token_exchange",
        sa.Column(
            "authorization_id",
            sa.Uuid(),
            sa.ForeignKey("person_authorization.id", ondelete="CASCADE"),
            primary_key=True,
        ),
        sa.Column("client_id", sa.Text(), sa.ForeignKey("client.id"), primary_key=True),
        sa.Column("resource_id", sa.Uuid(), sa.ForeignKey("resource.id"), primary_key=True),
        sa.Column("by_way_of", postgresql.ARRAY(sa.Text()), primary_key=True),
        sa.Column("expires_at", sa.DateTime(timezone=True), nullable=False),
    )
    op.create_index("exchange_at", "token_exchange", ["resource_id", "expires_at"])
    op.create_index("exchange_by_end", "token_exchange", ["expires_at"])


def downgrade() -> None:
    op.drop_table("token_exchange")
