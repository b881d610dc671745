"""Who changes something."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Once:
    """A caller's key for its change, and the digest of what was asked for."""

    key: str
    request: bytes


@dataclass(frozen=True, slots=True)
class Actor:
    """Who changes something, and through which client. `once`: the key that the change bears."""

    kind: str
    id: str
    name: str
    via: str
    once: Once | None = None

    def record(self) -> dict[str, str]:
        return {"kind": self.kind, "id": self.id, "name": self.name, "via": self.via}
