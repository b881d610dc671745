"""The library's front door."""

from __future__ import annotations

from collections.abc import Sequence
from importlib import import_module
from types import TracebackType
from typing import TYPE_CHECKING, Any, Self, TypedDict, Unpack

import httpx

from jamb.client.base.auth import AccessToken, ClientCredentials
from jamb.client.base.section import match_header
from jamb.client.base.transport import Transport

if TYPE_CHECKING:
    from jamb.client.audit.findings import Findings
    from jamb.client.audit.reviews import Reviews
    from jamb.client.clients.clients import Clients
    from jamb.client.clients.initial_access import InitialAccessTokens
    from jamb.client.clients.removals import Publishers, Removals
    from jamb.client.consent.charters import Charters
    from jamb.client.consent.consent import Asks, Consent
    from jamb.client.consent.requests import Requests
    from jamb.client.consent.rightsizing import Rightsizing
    from jamb.client.credentials.credentials import Credentials, Secrets
    from jamb.client.credentials.handovers import Handovers
    from jamb.client.credentials.leaks import Leaks
    from jamb.client.credentials.rotations import Rotations
    from jamb.client.directory.ledger import Ledger
    from jamb.client.directory.people import Groups, People, Roles
    from jamb.client.directory.providers import Providers
    from jamb.client.directory.signing_keys import SigningKeys
    from jamb.client.notices.notices import Notices, Webhooks
    from jamb.client.resources.resources import Resources
    from jamb.wire.audit.audit import Audit
    from jamb.wire.audit.search import Found
    from jamb.wire.audit.today import Today
    from jamb.wire.directory.directories import Directory, PolicyPreview
    from jamb.wire.directory.people import MayRegister, Whoami

# Where each section is, by its class: a program that reads clients does not wait for what reads the ledger.
_SECTIONS = {
    "clients": ("clients.clients", "Clients"),
    "resources": ("resources.resources", "Resources"),
    "asks": ("consent.consent", "Asks"),
    "consent": ("consent.consent", "Consent"),
    "requests": ("consent.requests", "Requests"),
    "people": ("directory.people", "People"),
    "groups": ("directory.people", "Groups"),
    "roles": ("directory.people", "Roles"),
    "secrets": ("credentials.credentials", "Secrets"),
    "credentials": ("credentials.credentials", "Credentials"),
    "rotations": ("credentials.rotations", "Rotations"),
    "handovers": ("credentials.handovers", "Handovers"),
    "leaks": ("credentials.leaks", "Leaks"),
    "findings": ("audit.findings", "Findings"),
    "rightsizing": ("consent.rightsizing", "Rightsizing"),
    "charters": ("consent.charters", "Charters"),
    "reviews": ("audit.reviews", "Reviews"),
    "removals": ("clients.removals", "Removals"),
    "initial_access": ("clients.initial_access", "InitialAccessTokens"),
    "publishers": ("clients.removals", "Publishers"),
    "providers": ("directory.providers", "Providers"),
    "signing_keys": ("directory.signing_keys", "SigningKeys"),
    "notices": ("notices.notices", "Notices"),
    "webhooks": ("notices.notices", "Webhooks"),
    "ledger": ("directory.ledger", "Ledger"),
}


class Options(TypedDict, total=False):
    """How requests are carried; see `Transport`."""

    http: httpx.BaseTransport | None
    timeout_seconds: float
    tries_again: int
    max_age: int | None


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
    providers: Providers
    signing_keys: SigningKeys
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
    initial_access: InitialAccessTokens
    publishers: Publishers
    notices: Notices
    webhooks: Webhooks
    ledger: Ledger

    def __init__(
        self, base_url: str, directory: str, auth: AccessToken | ClientCredentials, **options: Unpack[Options]
    ) -> None:
        self._transport = Transport(base_url, directory, auth, **options)

    @property
    def age(self) -> int:
        """How old the last answer may be, in seconds: above 0 only with `max_age`, or of reports, from a standby."""
        return self._transport.age

    def __getattr__(self, name: str) -> Any:
        """Return a section, made when it is first asked for."""
        if name not in _SECTIONS:
            raise AttributeError(f"{type(self).__name__} has no {name}")
        module, section = _SECTIONS[name]
        made = getattr(import_module(f"jamb.client.{module}"), section)(self._transport)
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
        from jamb.wire.directory.directories import Directory

        return self._transport.one(Directory, "GET", "")

    def whoami(self) -> Whoami:
        from jamb.wire.directory.people import Whoami

        return self._transport.one(Whoami, "GET", "/whoami")

    def registering(self) -> MayRegister:
        """Return whether the caller may register clients and, if not, whom to ask."""
        from jamb.wire.directory.people import MayRegister

        return self._transport.one(MayRegister, "GET", "/registering")

    def change_policy(self, *, if_match: str | None = None, **settings: object) -> Directory:
        """Change settings of the directory's policy; those left out stay.

        Args:
            if_match: the directory's `version` that you saw; if it is another now, `Outdated` is raised.
        """
        from jamb.wire.directory.directories import Directory

        return self._transport.one(Directory, "PUT", "/policy", json=settings, headers=match_header(if_match))

    def preview_policy(self, **settings: object) -> PolicyPreview:
        """Return whom a changed policy would put in breach. Changes nothing."""
        from jamb.wire.directory.directories import PolicyPreview

        return self._transport.one(PolicyPreview, "POST", "/policy/preview", json=settings)

    def search(self, text: str) -> Sequence[Found]:
        """Return what has a word in its name, title, login, id or hint: a few of each kind that the caller may list."""
        from jamb.wire.audit.search import Found

        return self._transport.many(Found, "GET", "/search", params={"q": text})

    def today(self) -> Today:
        from jamb.wire.audit.today import Today

        return self._transport.one(Today, "GET", "/today")

    def audit(self) -> Audit:
        """Return the directory's posture: findings by severity and rule, excess and its trend, what expires when."""
        from jamb.wire.audit.audit import Audit

        return self._transport.one(Audit, "GET", "/audit")

    def sign_out(self) -> None:
        """End the sign-in that this token belongs to."""
        self._transport.send("DELETE", "/sign-in")
