"""What a device asks for, and the access that came of it"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0031"
down_revision = "0030"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("device_request", sa.Column("request", postgresql.JSONB(none_as_null=True), nullable=True))
    op.add_column(
        "device_request",
        sa.Column(
            "authorization_id", sa.Uuid(), sa.ForeignKey("person_authorization.id", ondelete="SET NULL"), nullable=True
        ),
    )


def downgrade() -> None:
    op.drop_column("device_request", "authorization_id")
    op.drop_column("device_request", "request")
