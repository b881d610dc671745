"""A directory: an organisation, or one environment of it, that registers clients and issues tokens."""

from __future__ import annotations

from dataclasses import dataclass
from uuid import UUID

from jamb.core.directory.policy import DirectoryPolicy


@dataclass(frozen=True, slots=True)
class Directory:
    """A directory as an act meets it. `slug`: its short name, as addresses have it."""

    id: UUID
    slug: str
    name: str
    domain: str
    policy: DirectoryPolicy
    suspended: bool = False
