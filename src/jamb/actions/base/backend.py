"""Where actions work: the database, the keys and the addresses by which the world knows this service."""

from __future__ import annotations

from dataclasses import dataclass, field

from sqlalchemy import Engine

from jamb.actions.base.hashing import Hashing
from jamb.store.base.sealing import Sealer


@dataclass(frozen=True, slots=True)
class Backend:
    """Built once by the composition root and handed down. `base_url` has no slash at its end."""

    engine: Engine
    sealer: Sealer
    base_url: str
    hashing: Hashing = field(default_factory=Hashing)

    def issuer(self, slug: str) -> str:
        return f"{self.base_url}/d/{slug}"

    def token_endpoint(self, slug: str) -> str:
        return f"{self.issuer(slug)}/token"

    def own_identifier(self, slug: str) -> str:
        """The audience of Jamb's own API for one directory."""
        return f"{self.base_url}/api/v1/directories/{slug}"


def console_client_id(slug: str) -> str:
    return f"jamb-console.{slug}"


def command_line_client_id(slug: str) -> str:
    return f"jamb-command-line.{slug}"
