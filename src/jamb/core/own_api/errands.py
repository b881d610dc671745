"""Permissions by errand: each errand of an automation has one that is about it, and opens what it takes and no more.

The broad ones, which people's roles have (`every_permission`), imply those of their field.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from itertools import chain
from typing import NamedTuple

from jamb.core.permissions import AccessKind, Permission

_BOTH = frozenset(AccessKind)


class _Errand(NamedTuple):
    """`opens`: operations. `reads`: permissions that it implies, so that one sees what one acts on; none: it reads."""

    title: str
    opens: str
    reads: str = ""


_READING: Mapping[str, _Errand] = {
    "registrations.read": _Errand(
        "Read registrations: what they ask, hold, prove themselves by and do",
        "clients.list clients.read asks.check inheritance.preview consent.list consents.list consent.preview "
        "reach.preview reach.read explanations.read sheet.read attempts.list refusals.list handovers.list "
        "recipients.list credentials.users charters.read charters.compare rightsizing.read holders.read "
        "publishers.list removals.list removals.preview initial-access.list",
    ),
    "requests.read": _Errand("Read requests for consent", "requests.list requests.read"),
    "credentials.read": _Errand(
        "Read what expires, rotates and was handed over, and look up what leaked",
        "rotations.due rotations.list rotations.foresee rotations.read handovers.list recipients.list "
        "credentials.users recipient-key.read recipient-key.set leaks.look-up calendar.make",
    ),
    "resources.read": _Errand(
        "Read resources, their collections, and which permission would do",
        "resources.list resources.read resources.draft resources.preview permissions.propose collections.read "
        "holders.read",
    ),
    "people.read": _Errand(
        "Read people, groups, roles, sign-in providers and signing keys",
        "people.list groups.list roles.list roles.holders roles.preview providers.list providers.try "
        "policy.preview signing-keys.list",
    ),
    "audit.read": _Errand(
        "Read findings, excess, escalation paths, reviews and reports",
        "audit.read audit.report audit.look-again findings.mine findings.list "
        "findings.read findings.list-groups findings.read-remedy excess.rank excess.trend escalation.read "
        "dry-runs.list rightsizing.read reviews.list reviews.read reviews.list-items reviews.preview reviews.mine",
    ),
    "evidence.read": _Errand("Take the evidence along: reports, every registration, reviews", "audit.bundle"),
    "ledger.read": _Errand("Read the ledger, and verify it", "ledger.read ledger.verify"),
    "notices.read": _Errand(
        "Read what people and webhooks were told, and what could not be done",
        "notices.list duties.list webhooks.list webhooks.dead calendar.make",
    ),
}
# By the broad one that implies them.
_ACTING: Mapping[str, Mapping[str, _Errand]] = {
    "registry.write": {
        "registrations.add": _Errand(
            "Register clients, and ask for what they need",
            "clients.register asks.add asks.add-list requests.make requests.withdraw",
            "registrations.read resources.read requests.read",
        ),
        "registrations.change": _Errand(
            "Change, disable and enable registrations, their owners and asks",
            "clients.change clients.set-state owners.change asks.drop inheritance.ask",
            "registrations.read",
        ),
        "registrations.remove": _Errand("Remove registrations", "clients.remove", "registrations.read"),
        "registrations.open": _Errand(
            "Let software register itself",
            "initial-access.make initial-access.withdraw",
            "registrations.read",
        ),
        "rightsizing.request": _Errand(
            "Try smaller grants, and ask for them",
            "dry-runs.start dry-runs.end rightsizing.request",
            "registrations.read audit.read",
        ),
        "findings.see-to": _Errand(
            "Assign findings, answer for them, and carry out what one may",
            "findings.assign findings.answer findings.resolve",
            "audit.read",
        ),
        "reviews.run": _Errand("Run access reviews", "reviews.start reviews.close reviews.answer", "audit.read"),
    },
    "consent.decide": {
        "consent.grant": _Errand(
            "Consent, bound consents, and decide requests",
            "consent.grant consent.change-reach requests.decide rightsizing.enforce",
            "registrations.read requests.read",
        ),
        "consent.end": _Errand(
            "End consents, decline asks, and revoke tokens",
            "consent.withdraw asks.decline tokens.revoke",
            "registrations.read",
        ),
        "findings.waive": _Errand("Waive findings", "findings.waive findings.end-waiver", "audit.read"),
        "reviews.carry-out": _Errand("Carry out the answers of access reviews", "reviews.carry-out", "audit.read"),
        "publishers.vouch": _Errand("Vouch for publishers", "publishers.vouch publishers.disown", "registrations.read"),
        "registrations.restore": _Errand("Restore removed registrations", "clients.restore", "registrations.read"),
    },
    "credentials.manage": {
        "credentials.issue": _Errand(
            "Issue credentials, and hand them over",
            "credentials.issue credentials.make credentials.add handovers.make handovers.seal",
            "registrations.read credentials.read",
        ),
        "credentials.rotate": _Errand(
            "Rotate credentials",
            "rotations.open rotations.open-all rotations.reissue rotations.extend rotations.close rotations.abandon",
            "registrations.read credentials.read",
        ),
        "credentials.withdraw": _Errand(
            "Disable and withdraw credentials",
            "credentials.set-state credentials.withdraw handovers.withdraw",
            "registrations.read credentials.read",
        ),
        "probe.run": _Errand("Probe clients at resources", "probe.run", "registrations.read resources.read"),
    },
    "resources.manage": {
        "resources.publish": _Errand("Publish resources", "resources.publish resources.set-address", "resources.read"),
        "collections.keep": _Errand("Keep a resource's collections", "collections.replace", "resources.read"),
    },
    "people.manage": {
        "people.add": _Errand("Add people", "people.add people.import", "people.read"),
        "people.change": _Errand("Change people, and let them sign in", "people.change people.link", "people.read"),
        "groups.manage": _Errand("Make, change and remove groups", "groups.save groups.remove", "people.read"),
        "roles.manage": _Errand(
            "Make, change, assign and withdraw roles",
            "roles.save roles.remove roles.assign roles.withdraw",
            "people.read",
        ),
        "providers.manage": _Errand("Keep sign-in providers", "providers.save providers.remove", "people.read"),
        "policy.manage": _Errand("Change the directory's policy", "policy.change", "people.read"),
        "webhooks.manage": _Errand("Keep webhooks", "webhooks.add webhooks.remove webhooks.revive", "notices.read"),
    },
}

# No broad one implies these: what was consented to before they were there stays what it was.
_APART: Mapping[str, _Errand] = {
    "signing-keys.manage": _Errand(
        "Rotate and withdraw signing keys", "signing-keys.rotate signing-keys.withdraw", "people.read"
    ),
}


def acting(broad: str) -> Collection[str]:
    """Return the names of the permissions into which a broad one is cut."""
    return _ACTING[broad].keys()


READING = tuple(_READING)


def by_errand() -> Iterator[Permission]:
    for name, errand in chain(_READING.items(), _APART.items(), *(acts.items() for acts in _ACTING.values())):
        opens, reads = frozenset(errand.opens.split()), frozenset(errand.reads.split())
        # Whoever reads learns in which directory.
        yield Permission(name, errand.title, _BOTH, opens if reads else opens | {"directory.read"}, reads)
