"""How long what is observed is kept: one statement a table, each for a bounded number of rows at a time.

What is in the ledger, and what it speaks of, is kept as long as the directory is.
"""

from __future__ import annotations

from collections.abc import Mapping

AT_ONCE = 10_000
# After the end of a device's code or sign-in, and of a console session: for who asks what became of it.
DAYS_AFTER_END = 1
# A guard sends a report again for a while if it never heard of it; not after so long.
USAGE_BATCH_DAYS = 7

ADDED_DAYS = 366
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
    # Records of token requests, for as long as their directory's policy keeps them.
    "attempts": f"""
DELETE FROM attempt WHERE id IN (
    SELECT attempt.id FROM directory CROSS JOIN LATERAL (
        SELECT id FROM attempt
        WHERE directory_id = directory.id
          AND at < %(now)s::timestamptz - make_interval(days => coalesce((policy ->> 'attempts_days')::int, 90))
        ORDER BY at LIMIT {AT_ONCE}
    ) attempt
)
""",  # noqa: S608 - a number of our own
    # A request that was answered with yes is a sign-in, for as long as its token lives (at most seven days).
    "device requests": _ended(
        "device_request",
        f"expires_at < %(now)s::timestamptz - make_interval(days => CASE WHEN state = 'served' "
        f"THEN {7 + DAYS_AFTER_END} ELSE {DAYS_AFTER_END} END)",
    ),
    "console sessions": _ended(
        "console_session", f"expires_at < %(now)s::timestamptz - make_interval(days => {DAYS_AFTER_END})"
    ),
    "usage batches": _ended(
        "usage_batch", f"received_at < %(now)s::timestamptz - make_interval(days => {USAGE_BATCH_DAYS})"
    ),
    # Both are looked at for the policy's days, at most a year.
    "additions": _ended("addition", f"at < %(now)s::timestamptz - make_interval(days => {ADDED_DAYS})"),
    "former resources": _ended("resource_past", f"until < %(now)s::timestamptz - make_interval(days => {ADDED_DAYS})"),
    # Who came from nowhere else for a year has no habit any more.
    "networks": _ended("client_network", f"last_at < %(now)s::timestamptz - make_interval(days => {ADDED_DAYS})"),
    "tries": _ended("tried", "until < %(now)s"),
    "sign-in links": _ended("sign_in_link", f"expires_at < %(now)s::timestamptz - make_interval(days => {LINK_DAYS})"),
}
