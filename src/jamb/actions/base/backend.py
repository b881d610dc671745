"""Where actions work: the database, the keys and the addresses by which the world knows this service."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import datetime

from sqlalchemy import Engine

from jamb.actions.base.hashing import Hashing
from jamb.store.base.sealing import Sealer


@dataclass(frozen=True, slots=True)
class Backend:
    """Built once by the composition root and handed down. `base_url` has no slash at its end.

    `formers`: addresses that the service had, each with the end of the time for which it holds still.
    """

    engine: Engine
    sealer: Sealer
    base_url: str
    hashing: Hashing = field(default_factory=Hashing)
    formers: tuple[tuple[str, datetime], ...] = ()

    def issuer(self, slug: str) -> str:
        return f"{self.base_url}/d/{slug}"

    def addresses(self, now: datetime) -> list[str]:
        """Return the addresses that hold, the present one first."""
        return [self.base_url, *(url for url, until in self.formers if until > now)]

    def at_present(self, identifier: str, now: datetime) -> str:
        """Return an identifier of ours as it is named now, where it begins with a former address that holds still."""
        for former in self.addresses(now)[1:]:
            if identifier.startswith(f"{former}/"):
                return self.base_url + identifier.removeprefix(former)
        return identifier

    def token_endpoint(self, slug: str) -> str:
        return f"{self.issuer(slug)}/token"

    def own_identifier(self, slug: str) -> str:
        """The audience of Jamb's own API for one directory."""
        return f"{self.base_url}/api/v1/directories/{slug}"


def console_client_id(slug: str) -> str:
    return f"jamb-console.{slug}"


def command_line_client_id(slug: str) -> str:
    return f"jamb-command-line.{slug}"
