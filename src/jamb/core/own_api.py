"""Jamb's own API as a resource like any other: its operations, permissions and shipped roles.

Administrators, the console, the command line and automation are let in by the same decision as every client, so the
audit sees clients that could grant themselves more.
"""

from __future__ import annotations

from jamb.core.access.standing import RoleHolding
from jamb.core.permissions import AccessKind, Catalogue, DataClass, Effect, Operation, Permission

NAME = "jamb"
_BOTH = frozenset(AccessKind)
_READ, _WRITE, _CONTROL = Effect.READ, Effect.WRITE, Effect.CONTROL


def _operation(name: str, title: str, method: str, path: str, effect: Effect) -> Operation:
    data = DataClass.OPEN if name == "directory.read" else DataClass.INTERNAL
    return Operation(name, title, method, path, effect, data)


OPERATIONS = (
    _operation("directory.read", "Read the directory and its policy", "GET", "/", _READ),
    _operation("today.read", "Read what waits, ends and changed", "GET", "/today", _READ),
    _operation("people.list", "List people", "GET", "/people", _READ),
    _operation("resources.list", "List resources", "GET", "/resources", _READ),
    _operation("resources.read", "Read a resource's catalogue", "GET", "/resources/{name}", _READ),
    _operation("permissions.propose", "Propose the smallest permissions", "GET", "/resources/{name}/proposal", _READ),
    _operation("clients.list", "List clients", "GET", "/clients", _READ),
    _operation("clients.read", "Read a client's dossier", "GET", "/clients/{client}", _READ),
    _operation("clients.register", "Register a client", "POST", "/clients", _WRITE),
    _operation("owners.change", "Change who owns a client", "POST", "/clients/{client}/owners", _WRITE),
    _operation("asks.add", "Ask for permissions", "POST", "/clients/{client}/asks", _WRITE),
    _operation("consent.preview", "See what consent would make possible", "GET", "/clients/{client}/consent", _READ),
    _operation("consent.grant", "Consent to what is asked", "POST", "/clients/{client}/consent", _CONTROL),
    _operation("consent.withdraw", "End a consent", "POST", "/clients/{client}/consent/withdrawal", _WRITE),
    _operation("credentials.issue", "Issue a client secret", "POST", "/clients/{client}/secrets", _CONTROL),
    _operation(
        "credentials.withdraw",
        "Withdraw a credential",
        "POST",
        "/clients/{client}/credentials/{credential}/withdrawal",
        _WRITE,
    ),
    _operation("sheet.read", "Read a connection sheet", "GET", "/clients/{client}/sheet", _READ),
    _operation("attempts.list", "List token requests", "GET", "/clients/{client}/attempts", _READ),
    _operation("explanations.read", "Explain a decision", "GET", "/clients/{client}/explanation", _READ),
    _operation("audit.read", "Run the audit", "GET", "/audit", _READ),
    _operation("ledger.read", "Read the ledger", "GET", "/ledger", _READ),
    _operation("ledger.verify", "Verify the ledger", "GET", "/ledger/verification", _READ),
    _operation("usage.report", "Report used operations", "POST", "/usage", _WRITE),
)

_READS = frozenset(operation.name for operation in OPERATIONS if operation.effect is _READ)
_READ_ALL = frozenset({"registry.read"})

PERMISSIONS = (
    Permission("registry.read", "Read registrations, findings and the ledger", _BOTH, _READS),
    Permission(
        "registry.write",
        "Register clients and ask",
        _BOTH,
        frozenset({"clients.register", "owners.change", "asks.add"}),
        _READ_ALL,
    ),
    Permission(
        "consent.decide",
        "Consent to what is asked, and end consents",
        _BOTH,
        frozenset({"consent.grant", "consent.withdraw"}),
        _READ_ALL,
    ),
    Permission(
        "credentials.manage",
        "Issue and withdraw credentials",
        _BOTH,
        frozenset({"credentials.issue", "credentials.withdraw"}),
        _READ_ALL,
    ),
    Permission(
        "usage.report",
        "Report used operations of a protected API",
        frozenset({AccessKind.APPLICATION}),
        frozenset({"usage.report"}),
    ),
)

ROLES = (
    RoleHolding("auditor", frozenset({"registry.read"})),
    RoleHolding("registrar", frozenset({"registry.write"})),
    RoleHolding("approver", frozenset({"consent.decide"})),
    RoleHolding("custodian", frozenset({"credentials.manage"})),
    RoleHolding("steward", frozenset({"registry.write", "consent.decide", "credentials.manage"})),
)


def own_catalogue(identifier: str) -> Catalogue:
    """Return the catalogue of Jamb's own API for the directory whose API has this identifier (audience)."""
    return Catalogue.of(NAME, "Jamb's own API", identifier, OPERATIONS, PERMISSIONS)
