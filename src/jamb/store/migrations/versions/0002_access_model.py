"""The access model: reach and collections, roles for groups and clients, groups, requests, refused calls"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0002"
down_revision = "0001"
branch_labels = None
depends_on = None


def _add(table: str, column: sa.Column) -> None:  # type: ignore[type-arg]
    """Add a column that is never null: rows from before get its default, later ones say what they hold."""
    op.add_column(table, column)
    op.alter_column(table, column.name, server_default=None)


def upgrade() -> None:  # noqa: PLR0915 - one statement a change
    op.create_table(
        "person_group",
        sa.Column("id", sa.Uuid(), nullable=False),
        sa.Column("directory_id", sa.Uuid(), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("title", sa.Text(), nullable=False),
        sa.ForeignKeyConstraint(
            ["directory_id"],
            ["directory.id"],
        ),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("directory_id", "name", name="group_name_taken"),
    )
    op.create_table(
        "consent_request",
        sa.Column("id", sa.Uuid(), nullable=False),
        sa.Column("directory_id", sa.Uuid(), nullable=False),
        sa.Column("client_id", sa.Text(), nullable=False),
        sa.Column("ask_ids", postgresql.ARRAY(sa.Uuid()), nullable=False),
        sa.Column("requested_by_id", sa.Text(), nullable=False),
        sa.Column("requested_by", sa.Text(), nullable=False),
        sa.Column("requested_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("due_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("reason", sa.Text(), nullable=False),
        sa.Column("questions", postgresql.ARRAY(sa.Text()), nullable=False),
        sa.Column("answers", postgresql.ARRAY(sa.Text()), nullable=False),
        sa.Column("weight", sa.Float(), nullable=False),
        sa.Column("state", sa.Text(), nullable=False),
        sa.Column("agreed", postgresql.JSONB(none_as_null=True, astext_type=sa.Text()), nullable=True),
        sa.Column("decided_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("decided_by", sa.Text(), nullable=False),
        sa.Column("said", sa.Text(), nullable=False),
        sa.ForeignKeyConstraint(
            ["client_id"],
            ["client.id"],
        ),
        sa.ForeignKeyConstraint(
            ["directory_id"],
            ["directory.id"],
        ),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index("consent_request_by_state", "consent_request", ["directory_id", "state", "due_at"], unique=False)
    op.create_index("ix_consent_request_client_id", "consent_request", ["client_id"], unique=False)
    op.create_table(
        "group_inner",
        sa.Column("group_id", sa.Uuid(), nullable=False),
        sa.Column("inner_id", sa.Uuid(), nullable=False),
        sa.ForeignKeyConstraint(
            ["group_id"],
            ["person_group.id"],
        ),
        sa.ForeignKeyConstraint(
            ["inner_id"],
            ["person_group.id"],
        ),
        sa.PrimaryKeyConstraint("group_id", "inner_id"),
    )
    op.create_index("ix_group_inner_inner_id", "group_inner", ["inner_id"], unique=False)
    op.create_table(
        "group_person",
        sa.Column("group_id", sa.Uuid(), nullable=False),
        sa.Column("person_id", sa.Uuid(), nullable=False),
        sa.ForeignKeyConstraint(
            ["group_id"],
            ["person_group.id"],
        ),
        sa.ForeignKeyConstraint(
            ["person_id"],
            ["person.id"],
        ),
        sa.PrimaryKeyConstraint("group_id", "person_id"),
    )
    op.create_index("ix_group_person_person_id", "group_person", ["person_id"], unique=False)
    op.create_table(
        "collection",
        sa.Column("resource_id", sa.Uuid(), nullable=False),
        sa.Column("path", sa.Text(), nullable=False),
        sa.Column("title", sa.Text(), nullable=False),
        sa.Column("objects", postgresql.ARRAY(sa.Text()), nullable=False),
        sa.ForeignKeyConstraint(
            ["resource_id"],
            ["resource.id"],
        ),
        sa.PrimaryKeyConstraint("resource_id", "path"),
    )
    op.create_table(
        "refusal",
        sa.Column("client_id", sa.Text(), nullable=False),
        sa.Column("resource_id", sa.Uuid(), nullable=False),
        sa.Column("operation", sa.Text(), nullable=False),
        sa.Column("kind", sa.Text(), nullable=False),
        sa.Column("reason", sa.Text(), nullable=False),
        sa.Column("object", sa.Text(), nullable=False),
        sa.Column("day", sa.Date(), nullable=False),
        sa.Column("calls", sa.BigInteger(), nullable=False),
        sa.Column("last_at", sa.DateTime(timezone=True), nullable=False),
        sa.ForeignKeyConstraint(
            ["client_id"],
            ["client.id"],
        ),
        sa.ForeignKeyConstraint(
            ["resource_id"],
            ["resource.id"],
        ),
        sa.PrimaryKeyConstraint("client_id", "resource_id", "operation", "kind", "reason", "object", "day"),
    )
    op.create_index("refusal_by_client", "refusal", ["client_id", "last_at"], unique=False)
    op.create_table(
        "request_approval",
        sa.Column("request_id", sa.Uuid(), nullable=False),
        sa.Column("approver_id", sa.Text(), nullable=False),
        sa.Column("approver", sa.Text(), nullable=False),
        sa.Column("at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("said", sa.Text(), nullable=False),
        sa.ForeignKeyConstraint(
            ["request_id"],
            ["consent_request.id"],
        ),
        sa.PrimaryKeyConstraint("request_id", "approver_id"),
    )
    _add("ask", sa.Column("asked_by_id", sa.Text(), nullable=False, server_default=sa.text("''")))
    op.add_column("ask", sa.Column("reach", postgresql.JSONB(none_as_null=True, astext_type=sa.Text()), nullable=True))
    op.add_column("client", sa.Column("cut_off_at", sa.DateTime(timezone=True), nullable=True))
    op.add_column("client", sa.Column("narrowed_at", sa.DateTime(timezone=True), nullable=True))
    _add("client_owner", sa.Column("level", sa.Text(), nullable=False, server_default=sa.text("'full'")))
    op.add_column(
        "consent", sa.Column("reach", postgresql.JSONB(none_as_null=True, astext_type=sa.Text()), nullable=True)
    )
    op.add_column("consent", sa.Column("person_id", sa.Uuid(), nullable=True))
    _add("consent", sa.Column("by_person", sa.Boolean(), nullable=False, server_default=sa.text("false")))
    op.add_column("consent", sa.Column("narrowed_at", sa.DateTime(timezone=True), nullable=True))
    op.create_index("consent_by_resource", "consent", ["resource_id", "permission"], unique=False)
    op.create_index("ix_consent_person_id", "consent", ["person_id"], unique=False)
    op.create_foreign_key(None, "consent", "person", ["person_id"], ["id"])
    _add("permission", sa.Column("consent_by", sa.Text(), nullable=False, server_default=sa.text("'administrator'")))
    _add("permission", sa.Column("text", sa.Text(), nullable=False, server_default=sa.text("''")))
    _add("permission", sa.Column("person_text", sa.Text(), nullable=False, server_default=sa.text("''")))
    _add("resource", sa.Column("object_name", sa.Text(), nullable=False, server_default=sa.text("''")))
    _add(
        "resource", sa.Column("questions", postgresql.ARRAY(sa.Text()), nullable=False, server_default=sa.text("'{}'"))
    )
    _add("resource", sa.Column("terms", sa.Text(), nullable=False, server_default=sa.text("''")))
    _add("role", sa.Column("title", sa.Text(), nullable=False, server_default=sa.text("''")))
    _add("role", sa.Column("shipped", sa.Boolean(), nullable=False, server_default=sa.text("false")))
    op.create_index("ix_role_resource_id", "role", ["resource_id"], unique=False)
    _add("role_assignment", sa.Column("id", sa.Uuid(), nullable=False, server_default=sa.text("gen_random_uuid()")))
    op.add_column("role_assignment", sa.Column("group_id", sa.Uuid(), nullable=True))
    op.add_column("role_assignment", sa.Column("client_id", sa.Text(), nullable=True))
    op.add_column(
        "role_assignment", sa.Column("reach", postgresql.JSONB(none_as_null=True, astext_type=sa.Text()), nullable=True)
    )
    _add(
        "role_assignment",
        sa.Column("assigned_at", sa.DateTime(timezone=True), nullable=False, server_default=sa.text("now()")),
    )
    _add("role_assignment", sa.Column("assigned_by", sa.Text(), nullable=False, server_default=sa.text("''")))
    op.add_column("role_assignment", sa.Column("expires_at", sa.DateTime(timezone=True), nullable=True))
    op.add_column("role_assignment", sa.Column("narrowed_at", sa.DateTime(timezone=True), nullable=True))
    op.drop_constraint("role_assignment_pkey", "role_assignment")
    op.create_primary_key("role_assignment_pkey", "role_assignment", ["id"])
    op.alter_column("role_assignment", "person_id", nullable=True)
    op.create_check_constraint(
        "role_has_one_holder", "role_assignment", "num_nonnulls(person_id, group_id, client_id) = 1"
    )
    op.create_index("ix_role_assignment_group_id", "role_assignment", ["group_id"], unique=False)
    op.create_index("ix_role_assignment_role_id", "role_assignment", ["role_id"], unique=False)
    op.create_unique_constraint("role_assigned_to_client", "role_assignment", ["role_id", "client_id"])
    op.create_unique_constraint("role_assigned_to_group", "role_assignment", ["role_id", "group_id"])
    op.create_unique_constraint("role_assigned_to_person", "role_assignment", ["role_id", "person_id"])
    op.create_index("role_assignment_by_client", "role_assignment", ["client_id"], unique=False)
    op.create_foreign_key(None, "role_assignment", "client", ["client_id"], ["id"])
    op.create_foreign_key(None, "role_assignment", "person_group", ["group_id"], ["id"])
    # Shipped roles and their holders were there before these columns were.
    op.execute("UPDATE role SET shipped = true")
    op.execute(
        "UPDATE role_assignment AS held SET assigned_at = person.created_at "
        "FROM person WHERE person.id = held.person_id"
    )
