"""The permissions of Jamb's own API: broad ones for people's roles, those of owners, of guards, and by errand."""

from __future__ import annotations

from jamb.core.own_api.errands import READING, acting, by_errand
from jamb.core.own_api.operations import OF_CLIENTS, OPERATIONS, READS, READS_OWN
from jamb.core.permissions import AccessKind, Effect, Permission

_BOTH = frozenset(AccessKind)
_FOR_PEOPLE = frozenset({AccessKind.DELEGATED})
_FOR_GUARDS = frozenset({AccessKind.APPLICATION})
_CREDENTIALS = frozenset(
    one.name
    for one in OPERATIONS
    if one.name.startswith(("credentials.", "rotations.", "handovers.", "probe.")) and one.effect is not Effect.READ
)


def _unlocks(*names: str) -> frozenset[str]:
    return frozenset(names)


def _broad(name: str, title: str, *names: str) -> Permission:
    """Return a permission that gives all of its field: what it implies, and what belongs to no errand of its own."""
    return Permission(name, title, _BOTH, frozenset(names), frozenset({"registry.read", *acting(name)}))


PERMISSIONS = (
    Permission("registry.read", "Read registrations, findings and the ledger", _BOTH, READS, frozenset(READING)),
    _broad("registry.write", "Register clients and ask"),
    _broad(
        "consent.decide",
        "Consent to what is asked, bound it, end consents, and waive findings",
        "findings.answer",
        "findings.resolve",
    ),
    _broad(
        "credentials.manage",
        "Issue, hand over, probe and withdraw credentials",
        "findings.resolve",
        "findings.answer",
    ),
    _broad("resources.manage", "Publish resources and keep their collections"),
    _broad("people.manage", "Manage people, groups, roles, sign-in providers, webhooks and the policy"),
    Permission(
        "clients.read-own",
        "See the clients one owns",
        _FOR_PEOPLE,
        READS_OWN | frozenset(one.name for one in OPERATIONS if one.name in OF_CLIENTS and one.effect is Effect.READ),
    ),
    Permission(
        "clients.edit-own",
        "Ask on behalf of the clients one owns",
        _FOR_PEOPLE,
        _unlocks(
            "asks.add",
            "asks.add-list",
            "asks.drop",
            "requests.make",
            "requests.withdraw",
            "rightsizing.request",
            "reviews.answer",
            "findings.answer",
        ),
        frozenset({"clients.read-own"}),
    ),
    Permission(
        "clients.run-own",
        "Run the clients one owns: owners, credentials, state",
        _FOR_PEOPLE,
        _unlocks(
            "owners.change",
            "clients.set-state",
            "clients.change",
            "tokens.revoke",
            "inheritance.ask",
            "consent.withdraw",
        )
        | _CREDENTIALS,
        frozenset({"clients.edit-own"}),
    ),
    Permission(
        "clients.start",
        "Register clients of one's own",
        _FOR_PEOPLE,
        _unlocks(
            "clients.register",
            "directory.read",
            "resources.list",
            "resources.read",
            "permissions.propose",
            "collections.read",
            "charters.compare",
        ),
    ),
    Permission("usage.report", "Report used operations of a protected API", _FOR_GUARDS, _unlocks("usage.report")),
    Permission(
        "revocations.read", "Read revocations and collections for a guard", _FOR_GUARDS, _unlocks("revocations.read")
    ),
    *by_errand(),
)
