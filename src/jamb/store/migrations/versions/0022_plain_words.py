"""Tables, columns and kept words are called what they are: remedy, resolved, dry run, active, revoked"""

import sqlalchemy as sa
from alembic import op

revision = "0022"
down_revision = "0021"
branch_labels = None
depends_on = None

_COLUMNS = (
    ("finding", "mend", "remedy"),
    ("finding", "gone_at", "resolved_at"),
    ("client", "cut_off_at", "tokens_revoked_at"),
    ("person", "live", "active"),
    ("narrowing", "dry_until", "dry_run_until"),
    ("narrowing_miss", "narrowing_id", "dry_run_id"),
    ("consent_request", "narrowing_id", "dry_run_id"),
)
_TABLES = (("narrowing", "dry_run"), ("narrowing_miss", "dry_run_miss"))
_INDEXES = (
    ("narrowing_once", "dry_run_once"),
    ("ix_consent_request_narrowing_id", "ix_consent_request_dry_run_id"),
    ("finding_gone", "finding_resolved"),
)
# Members of a policy, and the words by which kept rows are known.
_SETTINGS = (("handing_on", "inheritance"), ("dry_days", "dry_run_days"), ("notice_days", "warn_days"))
_WORDS = (
    ("finding", "rule", "dead-credential-tried", "expired-credential-tried"),
    ("notice", "kind", "dead-credential-tried", "expired-credential-tried"),
    ("notice", "kind", "narrowing-tried-out", "dry-run-over"),
    ("addition", "way", "handed on", "inherited"),
)


def upgrade() -> None:
    for table, old, new in _COLUMNS:
        op.alter_column(table, old, new_column_name=new)
    for old, new in _TABLES:
        op.rename_table(old, new)
    for old, new in _INDEXES:
        op.execute(f"alter index {old} rename to {new}")
    for old, new in _SETTINGS:
        op.execute(
            sa.text(
                "update directory set policy = (policy - :old)"
                " || jsonb_build_object(cast(:new as text), policy -> :old) where policy ? :old"
            ).bindparams(old=old, new=new)
        )
    for table, column, old, new in _WORDS:
        kept = sa.table(table, sa.column(column))
        op.execute(sa.update(kept).where(kept.c[column] == old).values({column: new}))
