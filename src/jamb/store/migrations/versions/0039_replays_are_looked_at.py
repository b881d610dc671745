"""Look at a client again when a code or refresh token of it came twice"""

from alembic import op

revision = "0039"
down_revision = "0038"
branch_labels = None
depends_on = None
_NOTED = (
    "CREATE TRIGGER attempt_audit_noted AFTER INSERT ON attempt FOR EACH ROW WHEN ({when}) "
    "EXECUTE FUNCTION audit_note()"
)
_DEAD = (
    "new.hint <> '' AND new.outcome IN ('secret-expired', 'secret-withdrawn', 'credential-disabled', 'key-expired', "
    "'key-withdrawn')"
)


def upgrade() -> None:
    op.execute("DROP TRIGGER attempt_audit_noted ON attempt")
    op.execute(_NOTED.format(when=f"({_DEAD}) OR new.outcome IN ('code-replayed', 'refresh-replayed')"))


def downgrade() -> None:
    op.execute("DROP TRIGGER attempt_audit_noted ON attempt")
    op.execute(_NOTED.format(when=_DEAD))
