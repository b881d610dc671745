"""What decides about a credential that is put at a client, and what its sheets name: read of many clients at once."""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property
from uuid import UUID

from sqlmodel import Session

from jamb.actions.base.lookups import weights_of
from jamb.core.permissions import AccessKind
from jamb.store.base.work import Unit
from jamb.store.clients import clients
from jamb.store.credentials import credentials
from jamb.store.credentials.credentials import CredentialRow
from jamb.store.resources import resources

# By resource identifier, the names of what is asked or held there.
Named = list[tuple[str, tuple[str, ...]]]


@dataclass
class SheetFacts:
    """What some clients ask and hold, and where. Nothing is read before it is asked for, or `read`."""

    session: Session
    directory_id: UUID
    client_ids: tuple[str, ...]

    @cached_property
    def _identifiers(self) -> dict[UUID, str]:
        return {row.id: row.identifier for row in resources.resources_of(self.session, self.directory_id)}

    @cached_property
    def _named(self) -> dict[tuple[str, str], dict[UUID, set[str]]]:
        held: list[clients.AskRow | clients.GrantRow] = [*clients.asks_of(self.session, self.client_ids)]
        held += clients.grants_of(self.session, self.client_ids)
        found: dict[tuple[str, str], dict[UUID, set[str]]] = {}
        for row in held:
            found.setdefault((row.client_id, row.kind), {}).setdefault(row.resource_id, set()).add(row.permission)
        return found

    def read(self) -> None:
        """Read what sheets name, for when they are made after the session."""
        _ = self._identifiers, self._named

    def named(self, client_id: str, kind: AccessKind) -> Named:
        """Return the identifiers of resources at which something is asked or held in this way, with the names of it."""
        places = self._named.get((client_id, kind.value), {})
        return sorted((self._identifiers[key], tuple(sorted(names))) for key, names in places.items())


@dataclass
class Surroundings:
    """What stands at some clients while credentials are put there, kept up to date as that goes on.

    Attributes:
        harmless: those by which whoever adds a credential could do nothing that they may not do already.
    """

    unit: Unit
    client_ids: tuple[str, ...]
    harmless: frozenset[str] = frozenset()
    sheets: SheetFacts = field(init=False)
    _fresh: list[CredentialRow] = field(default_factory=list)

    def __post_init__(self) -> None:
        self.sheets = SheetFacts(self.unit.session, self.unit.directory.id, self.client_ids)

    @cached_property
    def _credentials(self) -> dict[str, list[CredentialRow]]:
        found: dict[str, list[CredentialRow]] = {}
        for row in credentials.credentials_of(self.unit.session, self.client_ids):
            found.setdefault(row.client_id, []).append(row)
        return found

    @cached_property
    def weights(self) -> dict[str, float]:
        """The weight of all that each client may do as itself."""
        return weights_of(self.unit.session, self.client_ids, self.unit.now)

    def standing(self, client_id: str) -> int:
        """Return how many credentials of a client are neither withdrawn nor past their end."""
        return sum(row.stands(self.unit.now) for row in self._credentials.get(client_id, ()))

    def add(self, row: CredentialRow) -> None:
        """Take in a credential that is put, to be written with others."""
        self._credentials.setdefault(row.client_id, []).append(row)
        self._fresh.append(row)

    def write(self) -> None:
        """Write what was taken in."""
        credentials.write(self.unit.session, self._fresh)
        self._fresh.clear()

    def forget(self) -> None:
        """Leave out what was taken in and not written: it is not put after all."""
        for row in self._fresh:
            self._credentials[row.client_id].remove(row)
        self._fresh.clear()
