"""Notices, letters, webhooks, and the queue of background work in a schema of its own"""

import sqlalchemy as sa
from alembic import op
from procrastinate.schema import SchemaManager
from sqlalchemy.dialects import postgresql

revision = "0009"
down_revision = "0008"
branch_labels = None
depends_on = None


def _moment(name: str, nullable: bool = False) -> sa.Column[object]:
    return sa.Column(name, sa.DateTime(timezone=True), nullable=nullable)


def _tries() -> list[sa.Column[object]]:
    return [
        _moment("next_at"),
        _moment("sent_at", nullable=True),
        sa.Column("tries", sa.Integer(), nullable=False),
        sa.Column("error", sa.Text(), nullable=False),
        sa.Column("failed", sa.Text(), nullable=False),
    ]


def upgrade() -> None:
    to_send = sa.text("sent_at IS NULL AND failed = ''")
    op.create_table(
        "mail",
        sa.Column("id", sa.Uuid(), primary_key=True),
        sa.Column("directory_id", sa.Uuid(), sa.ForeignKey("directory.id"), nullable=False),
        sa.Column("person_id", sa.Uuid(), sa.ForeignKey("person.id"), nullable=False),
        _moment("made_at"),
        *_tries(),
    )
    op.create_index("mail_to_send", "mail", ["next_at"], postgresql_where=to_send)
    op.create_index("mail_of_person", "mail", ["person_id", "made_at"])
    op.create_table(
        "notice",
        sa.Column("id", sa.Uuid(), primary_key=True),
        sa.Column("directory_id", sa.Uuid(), sa.ForeignKey("directory.id"), nullable=False),
        sa.Column("person_id", sa.Uuid(), sa.ForeignKey("person.id"), nullable=False),
        *(sa.Column(name, sa.Text(), nullable=False) for name in ("key", "kind", "client_id", "words", "path")),
        sa.Column("urgent", sa.Boolean(), nullable=False),
        _moment("at"),
        sa.Column("mail_id", sa.Uuid(), sa.ForeignKey("mail.id"), nullable=True),
        sa.UniqueConstraint("person_id", "key", name="told_once"),
    )
    untold = sa.text("mail_id IS NULL")
    op.create_index("notice_untold", "notice", ["directory_id", "person_id"], postgresql_where=untold)
    op.create_index("notice_latest", "notice", ["directory_id", "at"])
    op.create_index("ix_notice_mail_id", "notice", ["mail_id"])
    op.create_table(
        "webhook",
        sa.Column("id", sa.Uuid(), primary_key=True),
        sa.Column("directory_id", sa.Uuid(), sa.ForeignKey("directory.id"), nullable=False),
        sa.Column("url", sa.Text(), nullable=False),
        _moment("made_at"),
        sa.Column("made_by", sa.Text(), nullable=False),
        sa.UniqueConstraint("directory_id", "url", name="webhook_there_already"),
    )
    op.create_table(
        "push",
        sa.Column("id", sa.Uuid(), primary_key=True),
        sa.Column("webhook_id", sa.Uuid(), sa.ForeignKey("webhook.id", ondelete="CASCADE"), nullable=False),
        sa.Column("key", sa.Text(), nullable=False),
        sa.Column("event", postgresql.JSONB(none_as_null=True), nullable=False),
        _moment("made_at"),
        *_tries(),
        sa.UniqueConstraint("webhook_id", "key", name="pushed_once"),
    )
    op.create_index("push_to_send", "push", ["next_at"], postgresql_where=to_send)
    # The task library's own tables. A newer release of it brings its own changes: they become a migration here.
    connection = op.get_bind()
    connection.exec_driver_sql("CREATE SCHEMA queue")
    connection.exec_driver_sql("SET LOCAL search_path TO queue, public")
    # On the driver itself: many statements, and per cent signs that are no placeholders.
    driver = connection.connection.driver_connection
    assert driver is not None
    driver.execute(SchemaManager.get_schema())
    connection.exec_driver_sql("SET LOCAL search_path TO public")
