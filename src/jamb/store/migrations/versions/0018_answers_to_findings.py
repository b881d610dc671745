"""What is said to whoever sees to a finding, and what they answer, apart"""

import sqlalchemy as sa
from alembic import op

revision = "0018"
down_revision = "0017"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.alter_column("finding", "answer", new_column_name="note")
    for name in ("assigned_by", "assigned_by_id", "answer"):
        op.add_column("finding", sa.Column(name, sa.Text(), nullable=False, server_default=""))
        op.alter_column("finding", name, server_default=None)
    for name in ("assigned_at", "answered_at"):
        op.add_column("finding", sa.Column(name, sa.DateTime(timezone=True), nullable=True))
    op.create_index("finding_assigned", "finding", ["assigned_to"], postgresql_where=sa.text("assigned_to is not null"))
    # A rule finds more than it did: everybody is looked at anew.
    op.execute("insert into audit_stale (client_id) select id from client")
