"""Pages of clients and people by name, and the last use of each client, by an index that fits"""

from alembic import op

revision = "0046"
down_revision = "0045"
branch_labels = None
depends_on = None


def upgrade() -> None:
    # The index of the names' uniqueness follows, and gives their order.
    op.execute('alter table client alter column folded_name type text collate "C"')
    op.execute("create index person_by_name on person (directory_id, name, id)")
    op.execute("create index usage_by_day on usage (client_id, day, last_at)")


def downgrade() -> None:
    op.execute("drop index usage_by_day")
    op.execute("drop index person_by_name")
    op.execute('alter table client alter column folded_name type text collate "default"')
