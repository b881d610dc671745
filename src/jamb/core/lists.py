"""The closed lists by which lists are ordered, grouped and filtered: the same for API, command line and database."""

from __future__ import annotations

from enum import StrEnum


class ExcessBy(StrEnum):
    CLIENT = "client"
    OWNER = "owner"
    RESOURCE = "resource"


class ClientSort(StrEnum):
    NAME = "name"
    REGISTERED = "registered"
    EXPIRY = "expiry"
    USED = "used"


class Attention(StrEnum):
    """What a client may need attention for; each is one condition of the list."""

    WAITING = "waiting"
    EXPIRING = "expiring"
    EXPIRED_CREDENTIAL = "expired-credential"
    OWNERLESS = "ownerless"
    DORMANT = "dormant"
    DISABLED = "disabled"
    # Asks for nothing yet, or has nothing to prove itself by.
    UNFINISHED = "unfinished"


class FoundKind(StrEnum):
    """What can be found by a word, in the order in which it is told."""

    CLIENT = "client"
    CREDENTIAL = "credential"
    PERSON = "person"
    GROUP = "group"
    ROLE = "role"
    RESOURCE = "resource"
    PERMISSION = "permission"
    OPERATION = "operation"


class Which(StrEnum):
    """open: counts. waived: does not count for a while. resolved: gone in the last thirty days."""

    OPEN = "open"
    WAIVED = "waived"
    RESOLVED = "resolved"


class GroupBy(StrEnum):
    RULE = "rule"
    CLIENT = "client"
    OWNER = "owner"
