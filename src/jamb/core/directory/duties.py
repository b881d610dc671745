"""What the service does for a directory in every round, each by itself: what fails waits, and the rest goes on."""

from __future__ import annotations

from datetime import timedelta
from enum import StrEnum

FIRST_PAUSE = timedelta(minutes=1)
LONGEST_PAUSE = timedelta(hours=1)
ERROR_LONGEST = 300


class Duty(StrEnum):
    ROTATE = "open rotations by policy"
    EVALUATE = "evaluate what changed"
    CLOSE_REVIEWS = "close reviews that are due"
    ROTATE_KEYS = "rotate the signing key by policy"
    TELL = "find what is to be told"
    ESCALATION = "find escalation paths anew"


def pause_after(failures: int) -> timedelta:
    """Return how long a duty waits after so many failures in a row, at least one."""
    return min(FIRST_PAUSE * (1 << min(failures - 1, 16)), LONGEST_PAUSE)
