"""Of redirect URIs: since when, when used last, and whose scheme is whose; and of requests without PKCE"""

import sqlalchemy as sa
from alembic import op

revision = "0044"
down_revision = "0043"
branch_labels = None
depends_on = None
_NOTED = (
    "CREATE TRIGGER attempt_audit_noted AFTER INSERT ON attempt FOR EACH ROW WHEN ({when}) "
    "EXECUTE FUNCTION audit_note()"
)
_DEAD = (
    "(new.hint <> '' AND new.outcome IN ('secret-expired', 'secret-withdrawn', 'credential-disabled', 'key-expired', "
    "'key-withdrawn')) OR new.outcome IN ('code-replayed', 'refresh-replayed'"
)
_FUNCTIONS = """
create function private_schemes(addresses text[]) returns text[] language sql immutable as $$
    select coalesce(array_agg(distinct scheme order by scheme), '{}')
    from (select lower(split_part(address, ':', 1)) as scheme from unnest(addresses) as address) as named
    where scheme not in ('http', 'https')
$$;

create function keep_client_redirects() returns trigger language plpgsql as $$
begin
    delete from client_redirect where client_id = new.id and address <> all (new.redirect_uris);
    insert into client_redirect (client_id, address, since)
        select distinct new.id, address, case tg_op when 'INSERT' then new.registered_at else now() end
        from unnest(new.redirect_uris) as address
        on conflict do nothing;
    return null;
end $$;

-- A new client is the last of those that share a scheme: only what becomes of an earlier one bears on others.
create function audit_note_schemes() returns trigger language plpgsql as $$
begin
    insert into audit_stale (client_id) select id from client
        where directory_id = new.directory_id and schemes && (old.schemes || new.schemes) and id <> new.id;
    return null;
end $$;
"""


def upgrade() -> None:
    op.execute(_FUNCTIONS)
    op.add_column(
        "client",
        sa.Column(
            "schemes", sa.ARRAY(sa.Text()), sa.Computed("private_schemes(redirect_uris)", persisted=True), nullable=True
        ),
    )
    op.create_index("client_by_scheme", "client", ["schemes"], postgresql_using="gin")
    moment = sa.DateTime(timezone=True)
    op.create_table(
        "client_redirect",
        sa.Column("client_id", sa.Text(), primary_key=True),
        sa.Column("address", sa.Text(), primary_key=True),
        sa.Column("since", moment, nullable=False),
        sa.Column("last_at", moment),
    )
    # What was sent where is known from now on: each is given its time anew, but for what the last sign-ins tell.
    op.execute(
        "insert into client_redirect (client_id, address, since, last_at) "
        "select distinct on (client.id, address) client.id, address, now(), (select max(created_at) "
        "from person_authorization where client_id = client.id and request ->> 'redirect_uri' = address) "
        "from client, unnest(redirect_uris) as address"
    )
    op.execute(
        "create trigger client_redirects_new after insert on client for each row "
        "when (new.redirect_uris <> '{}') execute function keep_client_redirects()"
    )
    op.execute(
        "create trigger client_redirects_changed after update of redirect_uris on client for each row "
        "when (new.redirect_uris is distinct from old.redirect_uris) execute function keep_client_redirects()"
    )
    op.execute(
        "create trigger audit_schemes after update of redirect_uris, state, name on client for each row "
        "when (old.schemes <> '{}' or new.schemes <> '{}') execute function audit_note_schemes()"
    )
    # The day of the last use is told by no rule: only the first one changes what is found.
    op.execute(
        "create trigger audit_redirects after insert or delete on client_redirect for each row "
        "execute function audit_note()"
    )
    op.execute(
        "create trigger audit_redirect_used after update of last_at on client_redirect for each row "
        "when (old.last_at is null) execute function audit_note()"
    )
    op.execute("DROP TRIGGER attempt_audit_noted ON attempt")
    op.execute(_NOTED.format(when=f"{_DEAD}, 'challenge-missing')"))


def downgrade() -> None:
    op.execute("DROP TRIGGER attempt_audit_noted ON attempt")
    op.execute(_NOTED.format(when=f"{_DEAD})"))
    op.execute("drop trigger audit_schemes on client")
    op.execute("drop trigger client_redirects_new on client")
    op.execute("drop trigger client_redirects_changed on client")
    op.execute("drop table client_redirect")
    op.execute("drop index client_by_scheme")
    op.execute("alter table client drop column schemes")
    for function in ("audit_note_schemes()", "keep_client_redirects()", "private_schemes(text[])"):
        op.execute(f"drop function {function}")
