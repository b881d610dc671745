"""Roles keep their past: each assignment is a row of its own, and a removed role stays for those who held it"""

import sqlalchemy as sa
from alembic import op

revision = "0003"
down_revision = "0002"
branch_labels = None
depends_on = None


def upgrade() -> None:
    for holder in ("person", "group", "client"):
        op.drop_constraint(f"role_assigned_to_{holder}", "role_assignment", type_="unique")
    op.add_column("role", sa.Column("removed_at", sa.DateTime(timezone=True), nullable=True))
    op.drop_constraint("role_name_taken", "role", type_="unique")
    op.create_index(
        "role_name_taken", "role", ["directory_id", "name"], unique=True, postgresql_where=sa.text("removed_at IS NULL")
    )
