"""Second factors of people, and with which a session began"""

import sqlalchemy as sa
from alembic import op

revision = "0035"
down_revision = "0034"
branch_labels = None
depends_on = None
_MOMENT = sa.DateTime(timezone=True)


def upgrade() -> None:
    person = sa.ForeignKey("person.id", ondelete="CASCADE")
    op.create_table(
        "second_factor",
        sa.Column("person_id", sa.Uuid(), person, primary_key=True),
        sa.Column("sealed", sa.LargeBinary(), nullable=False),
        sa.Column("made_at", _MOMENT, nullable=False),
        sa.Column("confirmed_at", _MOMENT, nullable=True),
        sa.Column("last_step", sa.BigInteger(), nullable=False),
    )
    op.create_table(
        "recovery_code",
        sa.Column("person_id", sa.Uuid(), sa.ForeignKey("person.id", ondelete="CASCADE"), primary_key=True),
        sa.Column("digest", sa.LargeBinary(), primary_key=True),
    )
    # The default stays: a process of before writes rows beside one of now.
    for table in ("console_session", "person_authorization"):
        op.add_column(table, sa.Column("second_factor", sa.Boolean(), nullable=False, server_default=sa.false()))


def downgrade() -> None:
    for table in ("person_authorization", "console_session"):
        op.drop_column(table, "second_factor")
    op.drop_table("recovery_code")
    op.drop_table("second_factor")
