"""Every table, gathered for migrations and for the check that the two agree."""

from sqlmodel import SQLModel

from jamb.store import (
    additions,
    authorities,
    calendar,
    clients,
    credentials,
    directories,
    duties,
    findings,
    handovers,
    ledger,
    notices,
    once,
    pasts,
    people,
    requests,
    resources,
    roles,
    rotations,
    tries,
    usage,
)

METADATA = SQLModel.metadata

__all__ = [
    "METADATA",
    "additions",
    "authorities",
    "calendar",
    "clients",
    "credentials",
    "directories",
    "duties",
    "findings",
    "handovers",
    "ledger",
    "notices",
    "once",
    "pasts",
    "people",
    "requests",
    "resources",
    "roles",
    "rotations",
    "tries",
    "usage",
]
