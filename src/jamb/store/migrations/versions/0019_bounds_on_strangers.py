"""Tries that are counted, refusals counted together, logins of each directory its own, idle sessions, failing duties"""

import sqlalchemy as sa
from alembic import op

revision = "0019"
down_revision = "0018"
branch_labels = None
depends_on = None

_MOMENT = sa.DateTime(timezone=True)


def upgrade() -> None:
    op.create_table(
        "tried",
        sa.Column("key", sa.LargeBinary(), primary_key=True),
        sa.Column("times", sa.Integer(), nullable=False),
        sa.Column("until", _MOMENT, nullable=False),
    )
    op.create_index("tried_until", "tried", ["until"])
    op.create_table(
        "failing_duty",
        sa.Column("directory_id", sa.Uuid(), sa.ForeignKey("directory.id"), nullable=False),
        sa.Column("duty", sa.Text(), nullable=False),
        sa.Column("failures", sa.Integer(), nullable=False),
        sa.Column("since", _MOMENT, nullable=False),
        sa.Column("error", sa.Text(), nullable=False),
        sa.Column("again_at", _MOMENT, nullable=False),
        sa.PrimaryKeyConstraint("directory_id", "duty", name="failing_duty_once"),
    )
    op.add_column("attempt", sa.Column("times", sa.Integer(), nullable=False, server_default="1"))
    op.add_column("attempt", sa.Column("digest", sa.LargeBinary(), nullable=True))
    counted = sa.text("digest IS NOT NULL")
    op.create_index("attempt_counted", "attempt", ["digest"], unique=True, postgresql_where=counted)
    op.drop_constraint("person_login_taken", "person")
    op.create_unique_constraint("person_login_taken", "person", ["directory_id", "login"])
    # To sign in without naming a directory.
    op.create_index("person_by_login", "person", ["login"])
    op.drop_column("person", "failed_sign_ins")
    op.drop_column("person", "barred_until")
    op.add_column("console_session", sa.Column("seen_at", _MOMENT, nullable=False, server_default=sa.func.now()))
    op.alter_column("console_session", "seen_at", server_default=None)
    for table, column, name in (
        ("console_session", "expires_at", "console_session_by_end"),
        ("device_request", "expires_at", "device_request_by_end"),
        ("device_request", "person_id", "device_request_of_person"),
        ("usage_batch", "received_at", "usage_batch_by_time"),
    ):
        op.create_index(name, table, [column])
