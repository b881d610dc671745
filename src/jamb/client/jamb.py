"""The library's front door."""

from __future__ import annotations

from types import TracebackType
from typing import Self

from jamb.client.auth import AccessToken, ClientCredentials
from jamb.client.charters import Charters
from jamb.client.clients import Clients
from jamb.client.consent import Asks, Consent
from jamb.client.credentials import Credentials, Secrets
from jamb.client.findings import Findings
from jamb.client.handovers import Handovers
from jamb.client.leaks import Leaks
from jamb.client.ledger import Ledger
from jamb.client.narrowing import Narrowing
from jamb.client.notices import Notices, Webhooks
from jamb.client.people import Groups, People, Roles
from jamb.client.removals import Publishers, Removals
from jamb.client.requests import Requests
from jamb.client.resources import Resources
from jamb.client.reviews import Reviews
from jamb.client.rotations import Rotations
from jamb.client.transport import Transport
from jamb.wire.audit import Audit
from jamb.wire.directories import Directory, PolicyPreview
from jamb.wire.people import MayRegister, Whoami
from jamb.wire.today import Today


class Jamb:
    """One directory of one service, as one caller. Close it, or use it in a `with` statement."""

    def __init__(self, base_url: str, directory: str, auth: AccessToken | ClientCredentials) -> None:
        self._transport = Transport(base_url, directory, auth)
        self.clients = Clients(self._transport)
        self.resources = Resources(self._transport)
        self.asks = Asks(self._transport)
        self.consent = Consent(self._transport)
        self.requests = Requests(self._transport)
        self.people = People(self._transport)
        self.groups = Groups(self._transport)
        self.roles = Roles(self._transport)
        self.secrets = Secrets(self._transport)
        self.credentials = Credentials(self._transport)
        self.rotations = Rotations(self._transport)
        self.handovers = Handovers(self._transport)
        self.leaks = Leaks(self._transport)
        self.findings = Findings(self._transport)
        self.narrowing = Narrowing(self._transport)
        self.charters = Charters(self._transport)
        self.reviews = Reviews(self._transport)
        self.removals = Removals(self._transport)
        self.publishers = Publishers(self._transport)
        self.notices = Notices(self._transport)
        self.webhooks = Webhooks(self._transport)
        self.ledger = Ledger(self._transport)

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
        """Return the directory's posture: findings by severity and rule, excess and its trend, what ends when."""
        return self._transport.one(Audit, "GET", "/audit")

    def sign_out(self) -> None:
        """End the sign-in that this token belongs to."""
        self._transport.send("DELETE", "/sign-in")
