"""What clients ask of people, and the refresh tokens that come of it"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0030"
down_revision = "0029"
branch_labels = None
depends_on = None
_MOMENT = sa.DateTime(timezone=True)
# The moment is that of the unit of work, by whose clock tokens are made; where there is none, the database's.
_NARROWING = """
CREATE FUNCTION note_narrowed(people uuid[]) RETURNS void LANGUAGE sql AS $$
    INSERT INTO person_narrowed (person_id, at)
        SELECT DISTINCT id, coalesce(nullif(current_setting('jamb.now', true), '')::timestamptz, clock_timestamp())
        FROM person WHERE id = ANY (people) ORDER BY id
    ON CONFLICT (person_id) DO UPDATE SET at = greatest(person_narrowed.at, excluded.at);
$$;
CREATE FUNCTION narrowed_by_assignment() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF old.person_id IS NOT NULL THEN PERFORM note_narrowed(ARRAY[old.person_id]);
    ELSIF old.group_id IS NOT NULL THEN PERFORM note_narrowed(ARRAY(SELECT audit_people_in(old.group_id)));
    END IF;
    RETURN NULL;
END $$;
CREATE FUNCTION narrowed_by_group() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN PERFORM note_narrowed(ARRAY[old.person_id]); RETURN NULL; END $$;
CREATE FUNCTION narrowed_by_inner_group() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN PERFORM note_narrowed(ARRAY(SELECT audit_people_in(old.inner_id))); RETURN NULL; END $$;
CREATE FUNCTION narrowed_by_role() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    PERFORM note_narrowed(ARRAY(
        SELECT person_id FROM role_assignment WHERE role_id = new.id AND person_id IS NOT NULL
        UNION SELECT audit_people_in(group_id) FROM role_assignment WHERE role_id = new.id AND group_id IS NOT NULL
    ));
    RETURN NULL;
END $$;
CREATE FUNCTION narrowed_by_leaving() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN PERFORM note_narrowed(ARRAY[new.id]); RETURN NULL; END $$;
CREATE TRIGGER role_assignment_narrows AFTER UPDATE OR DELETE ON role_assignment
    FOR EACH ROW WHEN (old.client_id IS NULL) EXECUTE FUNCTION narrowed_by_assignment();
CREATE TRIGGER group_person_narrows AFTER DELETE ON group_person FOR EACH ROW EXECUTE FUNCTION narrowed_by_group();
CREATE TRIGGER group_inner_narrows AFTER DELETE ON group_inner FOR EACH ROW EXECUTE FUNCTION narrowed_by_inner_group();
CREATE TRIGGER role_narrows AFTER UPDATE OF permissions, removed_at ON role
    FOR EACH ROW EXECUTE FUNCTION narrowed_by_role();
CREATE TRIGGER person_leaves AFTER UPDATE OF active ON person
    FOR EACH ROW WHEN (old.active AND NOT new.active) EXECUTE FUNCTION narrowed_by_leaving();
"""


def upgrade() -> None:
    op.create_table(
        "person_authorization",
        sa.Column("id", sa.Uuid(), primary_key=True),
        sa.Column("directory_id", sa.Uuid(), sa.ForeignKey("directory.id"), nullable=False),
        sa.Column("client_id", sa.Text(), sa.ForeignKey("client.id"), nullable=False),
        sa.Column("request", postgresql.JSONB(none_as_null=True), nullable=False),
        sa.Column("created_at", _MOMENT, nullable=False),
        sa.Column("expires_at", _MOMENT, nullable=False),
        sa.Column("resource_id", sa.Uuid(), sa.ForeignKey("resource.id"), nullable=True),
        sa.Column("scope", postgresql.ARRAY(sa.Text()), nullable=False),
        sa.Column("person_id", sa.Uuid(), sa.ForeignKey("person.id"), nullable=False),
        sa.Column("authenticated_at", _MOMENT, nullable=False),
        sa.Column("code_digest", sa.LargeBinary(), nullable=False),
        sa.Column("redeemed_at", _MOMENT, nullable=True),
        sa.Column("ended_at", _MOMENT, nullable=True),
        sa.Column("ended_by", sa.Text(), nullable=False),
        sa.UniqueConstraint("code_digest", name="authorization_code"),
    )
    op.create_index("authorization_by_end", "person_authorization", ["expires_at"])
    op.create_index("authorization_of_person", "person_authorization", ["person_id"])
    op.create_index("authorization_of_client", "person_authorization", ["client_id"])
    op.create_table(
        "refresh_token",
        sa.Column("digest", sa.LargeBinary(), primary_key=True),
        sa.Column(
            "authorization_id",
            sa.Uuid(),
            sa.ForeignKey("person_authorization.id", ondelete="CASCADE"),
            nullable=False,
        ),
        sa.Column("created_at", _MOMENT, nullable=False),
        sa.Column("expires_at", _MOMENT, nullable=False),
        sa.Column("used_at", _MOMENT, nullable=True),
    )
    op.create_index("refresh_token_of_authorization", "refresh_token", ["authorization_id"])
    op.create_index("refresh_token_by_end", "refresh_token", ["expires_at"])
    op.create_table(
        "person_narrowed",
        sa.Column("person_id", sa.Uuid(), sa.ForeignKey("person.id", ondelete="CASCADE"), primary_key=True),
        sa.Column("at", _MOMENT, nullable=False),
    )
    op.create_index("ix_person_narrowed_at", "person_narrowed", ["at"])
    op.execute(_NARROWING)


def downgrade() -> None:
    op.execute(
        "DROP TRIGGER role_assignment_narrows ON role_assignment; DROP TRIGGER group_person_narrows ON group_person; "
        "DROP TRIGGER group_inner_narrows ON group_inner; DROP TRIGGER role_narrows ON role; "
        "DROP TRIGGER person_leaves ON person; DROP FUNCTION narrowed_by_assignment, narrowed_by_group, "
        "narrowed_by_inner_group, narrowed_by_role, narrowed_by_leaving, note_narrowed"
    )
    op.drop_table("person_narrowed")
    op.drop_table("refresh_token")
    op.drop_table("person_authorization")
