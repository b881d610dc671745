"""What a protected API imports: checks access tokens and permissions offline, and reports what was used.

    guard = Guard(issuer="https://jamb.example/d/port", audience="https://berths.port.example", reporter=reporter)

    @app.get("/berths", dependencies=[Depends(guard.requires("berths.read", operation="berths.list"))])

Knows only the standards: RFC 8414 metadata, RFC 7517 keys, RFC 9068 tokens, RFC 6750 refusals.
"""

from jamb.guard.fastapi import Guard, add_guard_handler
from jamb.guard.keys import IssuerKeys
from jamb.guard.report import UsageReporter
from jamb.guard.verify import Refused, TokenClaims, verify

__all__ = ["Guard", "IssuerKeys", "Refused", "TokenClaims", "UsageReporter", "add_guard_handler", "verify"]
