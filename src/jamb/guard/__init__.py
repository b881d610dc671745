"""What a protected API imports: checks access tokens and permissions offline, and reports what was used.

    guard = Guard.for_resource(
        "berths", issuer="https://jamb.example/d/port", audience="https://berths.port.example",
        api="https://jamb.example/api/v1/directories/port", client_id=client_id, client_secret=client_secret,
    )
    add_guard_handler(app, "berths", guard)   # and guard.start(), guard.close() with the application's life

    @app.get("/berths", dependencies=[Depends(guard.requires("berths.view", operation="berths.list"))])
    @app.get("/berths/{berth}", dependencies=[
        Depends(guard.requires("berths.view", operation="berths.read", object_in="berth"))
    ])

Knows only the standards: RFC 8414 metadata, RFC 7517 keys, RFC 9068 tokens, RFC 9396 bounds, RFC 6750 refusals,
RFC 9449 proofs of possession, RFC 9728 metadata of the API itself.
"""

from importlib import import_module
from typing import TYPE_CHECKING, Any

from jamb.guard.keys import IssuerKeys
from jamb.guard.reach import Revocations, RevocationsReader
from jamb.guard.refusals import Refused
from jamb.guard.report import UsageReporter
from jamb.guard.token import OwnToken
from jamb.guard.verify import TokenClaims, verify

if TYPE_CHECKING:
    from jamb.guard.fastapi import Guard, add_guard_handler

__all__ = [
    "Guard",
    "IssuerKeys",
    "OwnToken",
    "Refused",
    "Revocations",
    "RevocationsReader",
    "TokenClaims",
    "UsageReporter",
    "add_guard_handler",
    "verify",
]

# What an API of this framework needs is imported by such an API alone.
_OF_FASTAPI = frozenset({"Guard", "add_guard_handler"})


def __getattr__(name: str) -> Any:
    if name not in _OF_FASTAPI:
        raise AttributeError(f"{__name__} has no {name}")
    return getattr(import_module("jamb.guard.fastapi"), name)
