"""Sign people out of applications: where they go then, who is told, and what belongs to which sign-in"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0034"
down_revision = "0033"
branch_labels = None
depends_on = None
_MOMENT = sa.DateTime(timezone=True)
# Whichever way an access ends, its application is told; not of what it gave back itself.
_TOLD = """
CREATE FUNCTION tell_of_sign_out(ended person_authorization, moment timestamptz) RETURNS void LANGUAGE sql AS $$
    INSERT INTO sign_out_notice
        (id, authorization_id, client_id, person_id, directory_id, made_at, next_at, tries, error)
    SELECT gen_random_uuid(), ended.id, ended.client_id, ended.person_id, ended.directory_id, moment, moment, 0, ''
    FROM client
    WHERE client.id = ended.client_id AND client.backchannel_logout_uri <> '' AND ended.redeemed_at IS NOT NULL
    ON CONFLICT (authorization_id) DO NOTHING
$$;
CREATE FUNCTION authorization_ends() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN PERFORM tell_of_sign_out(new, new.ended_at); RETURN NULL; END $$;
CREATE TRIGGER authorization_ends AFTER UPDATE OF ended_at ON person_authorization FOR EACH ROW
    WHEN (old.ended_at IS NULL AND new.ended_at IS NOT NULL AND new.ended_by <> 'the application gave it back')
    EXECUTE FUNCTION authorization_ends();
"""


def upgrade() -> None:
    # A service acts as itself; one that had redirect URIs was meant to sign people in.
    op.execute("UPDATE client SET kind = 'web' WHERE kind = 'service' AND redirect_uris <> '{}'")
    op.add_column(
        "client",
        sa.Column("post_logout_redirect_uris", postgresql.ARRAY(sa.Text()), nullable=False, server_default="{}"),
    )
    op.add_column("client", sa.Column("backchannel_logout_uri", sa.Text(), nullable=False, server_default=""))
    op.add_column("person_authorization", sa.Column("sign_in", sa.LargeBinary(), nullable=True))
    op.create_index(
        "authorization_of_sign_in", "person_authorization", ["sign_in"], postgresql_where=sa.text("sign_in IS NOT NULL")
    )
    op.create_table(
        "sign_out_notice",
        sa.Column("id", sa.Uuid(), primary_key=True),
        sa.Column("authorization_id", sa.Uuid(), nullable=False),
        sa.Column("client_id", sa.Text(), sa.ForeignKey("client.id"), nullable=False),
        sa.Column("person_id", sa.Uuid(), nullable=False),
        sa.Column("directory_id", sa.Uuid(), sa.ForeignKey("directory.id"), nullable=False),
        sa.Column("made_at", _MOMENT, nullable=False),
        sa.Column("next_at", _MOMENT, nullable=False),
        sa.Column("tries", sa.Integer(), nullable=False),
        sa.Column("error", sa.Text(), nullable=False),
        sa.UniqueConstraint("authorization_id", name="told_once_of_sign_out"),
    )
    op.create_index("sign_out_notice_due", "sign_out_notice", ["next_at"])
    op.execute(_TOLD)


def downgrade() -> None:
    op.execute(
        "DROP TRIGGER authorization_ends ON person_authorization; DROP FUNCTION authorization_ends; "
        "DROP FUNCTION tell_of_sign_out(person_authorization, timestamptz)"
    )
    op.drop_table("sign_out_notice")
    op.drop_index("authorization_of_sign_in", "person_authorization")
    op.drop_column("person_authorization", "sign_in")
    op.drop_column("client", "backchannel_logout_uri")
    op.drop_column("client", "post_logout_redirect_uris")
