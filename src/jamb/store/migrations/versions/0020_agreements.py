"""Who added what to a client, what resources were before, acts that wait for another person, who set whose password"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0020"
down_revision = "0019"
branch_labels = None
depends_on = None

_MOMENT = sa.DateTime(timezone=True)


def upgrade() -> None:
    op.create_table(
        "addition",
        sa.Column("id", sa.BigInteger(), primary_key=True),
        sa.Column("target_id", sa.Text(), nullable=False),
        sa.Column("added_by_id", sa.Text(), nullable=False),
        sa.Column("at", _MOMENT, nullable=False),
        sa.Column("way", sa.Text(), nullable=False),
        sa.Column("weight", sa.Float(), nullable=False),
        sa.Column("alone", sa.Boolean(), nullable=False),
    )
    op.create_index("addition_by_target", "addition", ["target_id", "at"])
    op.create_index("addition_by_time", "addition", ["at"])
    op.create_table(
        "resource_past",
        sa.Column("resource_id", sa.Uuid(), sa.ForeignKey("resource.id"), nullable=False),
        sa.Column("what", sa.Text(), nullable=False),
        sa.Column("revision", sa.Integer(), nullable=False),
        sa.Column("until", _MOMENT, nullable=False),
        sa.Column("agreed", sa.Boolean(), nullable=False),
        sa.Column("document", JSONB(), nullable=False),
        sa.PrimaryKeyConstraint("resource_id", "what", "revision", name="resource_past_once"),
    )
    op.create_index("resource_past_by_time", "resource_past", ["until"])
    op.alter_column("consent_request", "client_id", nullable=True)
    op.add_column("consent_request", sa.Column("act", sa.Text(), nullable=False, server_default=""))
    op.add_column("consent_request", sa.Column("args", JSONB(), nullable=True))
    op.add_column("consent_request", sa.Column("digest", sa.LargeBinary(), nullable=True))
    op.add_column("consent_request", sa.Column("subject", sa.Text(), nullable=False, server_default=""))
    op.add_column("consent_request", sa.Column("why", sa.Text(), nullable=False, server_default=""))
    op.add_column("consent_request", sa.Column("needed", sa.Integer(), nullable=False, server_default="0"))
    op.add_column("consent_request", sa.Column("done_at", _MOMENT, nullable=True))
    op.add_column("consent_request", sa.Column("outcome", sa.Text(), nullable=False, server_default=""))
    for column in ("act", "subject", "why", "needed", "outcome"):
        op.alter_column("consent_request", column, server_default=None)
    waiting = sa.text("digest IS NOT NULL AND state = 'waiting'")
    op.create_index("consent_request_act", "consent_request", ["directory_id", "digest"], postgresql_where=waiting)
    op.add_column("consent", sa.Column("revision", sa.Integer(), nullable=True))
    op.add_column("consent", sa.Column("collections_revision", sa.Integer(), nullable=True))
    op.add_column("credential", sa.Column("seen_by_id", sa.Text(), nullable=False, server_default=""))
    op.create_index("credential_seen_by", "credential", ["seen_by_id"])
    op.add_column("person", sa.Column("password_set_by", sa.Text(), nullable=False, server_default=""))
    op.add_column("webhook", sa.Column("made_by_id", sa.Text(), nullable=False, server_default=""))
    op.add_column("collection", sa.Column("rule", sa.Text(), nullable=False, server_default=""))
