"""How long what is observed is kept: one statement a table, each for a bounded number of rows at a time.

Tables that are parted by day lose whole parts instead (`partitions`). What is in the ledger, and what it speaks of, is
kept as long as the directory is.
"""

from __future__ import annotations

from collections.abc import Mapping

from jamb.store.base.partitions import ATTEMPTS_DAYS

AT_ONCE = 10_000
# After the end of a device's code or sign-in, and of a console session: for who asks what became of it.
DAYS_AFTER_END = 1

ADDED_DAYS = 366
# Longer than any time that the policy lets a use count for, and a year beside it.
USE_DAYS = 1100
# After its end, for whoever asks why it opens nothing.
LINK_DAYS = 30


def _ended(table: str, condition: str) -> str:
    return f"""
DELETE FROM {table} WHERE ctid IN (
    SELECT ctid FROM {table} WHERE {condition} LIMIT {AT_ONCE} FOR UPDATE SKIP LOCKED
)
"""  # noqa: S608 - names of our own


# Parameter: now.
FORGET: Mapping[str, str] = {
    "assertions": _ended("assertion_seen", "expires_at < %(now)s"),
    # Of directories whose policy keeps them for less than others do; the others' go with their part (`partitions`).
    "attempts": f"""
DELETE FROM attempt WHERE (id, day) IN (
    SELECT attempt.id, attempt.day
    FROM (SELECT id, coalesce((policy ->> 'attempts_days')::int, 90) AS days FROM directory) directory
    CROSS JOIN LATERAL (
        SELECT id, day FROM attempt
        WHERE directory_id = directory.id AND at < %(now)s::timestamptz - make_interval(days => directory.days)
        ORDER BY at LIMIT {AT_ONCE}
    ) attempt
    WHERE directory.days < {ATTEMPTS_DAYS}
)
""",  # noqa: S608 - of our own
    # A request that was answered with yes is a sign-in, for as long as its token lives (at most seven days).
    "device requests": _ended(
        "device_request",
        f"expires_at < %(now)s::timestamptz - make_interval(days => CASE WHEN state = 'served' "
        f"THEN {7 + DAYS_AFTER_END} ELSE {DAYS_AFTER_END} END)",
    ),
    # What a person allowed, a day after its last token: who asks what became of it.
    "authorizations": _ended(
        "person_authorization", f"expires_at < %(now)s::timestamptz - make_interval(days => {DAYS_AFTER_END})"
    ),
    # Told or given up within the hour, unless no process was there.
    "sign-outs to be told": _ended("sign_out_notice", "made_at < %(now)s::timestamptz - interval '1 day'"),
    # A guard hears for a day that they ended.
    "exchanged tokens": _ended(
        "token_exchange", f"expires_at < %(now)s::timestamptz - make_interval(days => {DAYS_AFTER_END})"
    ),
    "refresh tokens": _ended("refresh_token", "expires_at < %(now)s"),
    # No token lives longer than seven days.
    "people whose rights became less": _ended("person_narrowed", "at < %(now)s::timestamptz - interval '8 days'"),
    "console sessions": _ended(
        "console_session", f"expires_at < %(now)s::timestamptz - make_interval(days => {DAYS_AFTER_END})"
    ),
    # Both are looked at for the policy's days, at most a year.
    "additions": _ended("addition", f"at < %(now)s::timestamptz - make_interval(days => {ADDED_DAYS})"),
    "former resources": _ended("resource_past", f"until < %(now)s::timestamptz - make_interval(days => {ADDED_DAYS})"),
    # Who came from nowhere else for a year has no habit any more.
    "networks": _ended("client_network", f"last_at < %(now)s::timestamptz - make_interval(days => {ADDED_DAYS})"),
    "tries": _ended("tried", "until < %(now)s"),
    # The last use of an operation stays, however long ago: nobody shall be told that it was never used.
    "uses": f"""
DELETE FROM usage WHERE ctid IN (
    SELECT usage.ctid FROM usage WHERE day < (%(now)s::timestamptz - make_interval(days => {USE_DAYS}))::date
      AND EXISTS (
        SELECT FROM usage later WHERE later.client_id = usage.client_id AND later.resource_id = usage.resource_id
          AND later.operation = usage.operation AND later.kind = usage.kind AND later.day > usage.day
      ) LIMIT {AT_ONCE} FOR UPDATE SKIP LOCKED
)
""",  # noqa: S608 - numbers of our own
    "former addresses": _ended("former_address", f"until < %(now)s::timestamptz - make_interval(days => {ADDED_DAYS})"),
    "initial access tokens": _ended(
        "initial_access", f"expires_at < %(now)s::timestamptz - make_interval(days => {LINK_DAYS})"
    ),
    "sign-in links": _ended("sign_in_link", f"expires_at < %(now)s::timestamptz - make_interval(days => {LINK_DAYS})"),
}

# As long as the directory is, and why: the other tables.
KEPT: Mapping[str, str] = {
    "records that the ledger speaks of": (
        "ask authority client client_logo client_owner collection consent consent_request credential directory dry_run "
        "dynamic_registration sign_in_provider provider_subject "
        "group_inner group_person handover operation permission person person_group publisher removal request_approval "
        "resource review review_item role role_assignment rotation signing_key webhook"
    ),
    "the ledger itself": "ledger_entry ledger_head",
    "what was told, so that nothing is told twice": "mail notice push",
    "what was done under a key, so that nothing is done twice": "done_once",
    "findings, with what was said of them": "finding excess_change",
    "one row for each object or person that a client touched": "object_use person_use dry_run_miss",
    "one row in all": "schema_floor pulse",
    "a few rows for each directory, and for each day of changes or of ends": "kept_sum",
    "one row for each client, person, directory or key, or a few": (
        "audit_stale audit_state calendar_feed client_grant_type client_redirect escalation excess failing_duty "
        "notice_round passkey recovery_code sealing_mark second_factor"
    ),
}
