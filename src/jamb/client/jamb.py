"""The library's front door."""

from __future__ import annotations

from importlib import import_module
from types import TracebackType
from typing import TYPE_CHECKING, Any, Self

from jamb.client.auth import AccessToken, ClientCredentials
from jamb.client.transport import Transport
from jamb.wire.audit import Audit
from jamb.wire.directories import Directory, PolicyPreview
from jamb.wire.people import MayRegister, Whoami
from jamb.wire.today import Today

if TYPE_CHECKING:
    from jamb.client.charters import Charters
    from jamb.client.clients import Clients
    from jamb.client.consent import Asks, Consent
    from jamb.client.credentials import Credentials, Secrets
    from jamb.client.findings import Findings
    from jamb.client.handovers import Handovers
    from jamb.client.leaks import Leaks
    from jamb.client.ledger import Ledger
    from jamb.client.notices import Notices, Webhooks
    from jamb.client.people import Groups, People, Roles
    from jamb.client.removals import Publishers, Removals
    from jamb.client.requests import Requests
    from jamb.client.resources import Resources
    from jamb.client.reviews import Reviews
    from jamb.client.rightsizing import Rightsizing
    from jamb.client.rotations import Rotations

# Where each noun is, by its class: a program that reads clients does not wait for what reads the ledger.
_NOUNS = {
    "clients": ("clients", "Clients"),
    "resources": ("resources", "Resources"),
    "asks": ("consent", "Asks"),
    "consent": ("consent", "Consent"),
    "requests": ("requests", "Requests"),
    "people": ("people", "People"),
    "groups": ("people", "Groups"),
    "roles": ("people", "Roles"),
    "secrets": ("credentials", "Secrets"),
    "credentials": ("credentials", "Credentials"),
    "rotations": ("rotations", "Rotations"),
    "handovers": ("handovers", "Handovers"),
    "leaks": ("leaks", "Leaks"),
    "findings": ("findings", "Findings"),
    "rightsizing": ("rightsizing", "Rightsizing"),
    "charters": ("charters", "Charters"),
    "reviews": ("reviews", "Reviews"),
    "removals": ("removals", "Removals"),
    "publishers": ("removals", "Publishers"),
    "notices": ("notices", "Notices"),
    "webhooks": ("notices", "Webhooks"),
    "ledger": ("ledger", "Ledger"),
}


class Jamb:
    """One directory of one service, as one caller. Close it, or use it in a `with` statement."""

    clients: Clients
    resources: Resources
    asks: Asks
    consent: Consent
    requests: Requests
    people: People
    groups: Groups
    roles: Roles
    secrets: Secrets
    credentials: Credentials
    rotations: Rotations
    handovers: Handovers
    leaks: Leaks
    findings: Findings
    rightsizing: Rightsizing
    charters: Charters
    reviews: Reviews
    removals: Removals
    publishers: Publishers
    notices: Notices
    webhooks: Webhooks
    ledger: Ledger

    def __init__(self, base_url: str, directory: str, auth: AccessToken | ClientCredentials) -> None:
        self._transport = Transport(base_url, directory, auth)

    def __getattr__(self, name: str) -> Any:
        """Return a noun, made when it is first asked for."""
        if name not in _NOUNS:
            raise AttributeError(f"{type(self).__name__} has no {name}")
        module, noun = _NOUNS[name]
        made = getattr(import_module(f"jamb.client.{module}"), noun)(self._transport)
        setattr(self, name, made)
        return made

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()

    def close(self) -> None:
        self._transport.close()

    def directory(self) -> Directory:
        """Return the directory with its policy."""
        return self._transport.one(Directory, "GET", "")

    def whoami(self) -> Whoami:
        return self._transport.one(Whoami, "GET", "/whoami")

    def registering(self) -> MayRegister:
        """Return whether the caller may register clients and, if not, whom to ask."""
        return self._transport.one(MayRegister, "GET", "/registering")

    def change_policy(self, **settings: object) -> Directory:
        """Change settings of the directory's policy; those left out stay."""
        return self._transport.one(Directory, "PUT", "/policy", json=settings)

    def preview_policy(self, **settings: object) -> PolicyPreview:
        """Return whom a changed policy would put in breach. Changes nothing."""
        return self._transport.one(PolicyPreview, "POST", "/policy/preview", json=settings)

    def today(self) -> Today:
        return self._transport.one(Today, "GET", "/today")

    def audit(self) -> Audit:
        """Return the directory's posture: findings by severity and rule, excess and its trend, what expires when."""
        return self._transport.one(Audit, "GET", "/audit")

    def sign_out(self) -> None:
        """End the sign-in that this token belongs to."""
        self._transport.send("DELETE", "/sign-in")
