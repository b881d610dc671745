"""How much rotating is to come: a simulation of a year under a policy."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import date, datetime, timedelta

from jamb.core.credentials.kinds import CredentialKind
from jamb.core.directory.policy import DirectoryPolicy

WEEKS = 52


@dataclass(frozen=True, slots=True)
class Held:
    """A credential that works: its kind, and its end."""

    kind: CredentialKind
    expires_at: datetime | None


@dataclass(frozen=True, slots=True)
class Week:
    """How many rotations are due in the week that begins on this day. `endless` ones are due in the first."""

    begins: date
    secrets: int
    keys: int

    @property
    def due(self) -> int:
        return self.secrets + self.keys


def forecast(held: Iterable[Held], policy: DirectoryPolicy, now: datetime) -> Sequence[Week]:
    """Return the rotations of the coming year by week, when each is opened at the beginning of the policy's notice.

    Each successor lives for the policy's default and is rotated in its turn. Work that is due already, and credentials
    without an end, fall into the first week.
    """
    first = now.date() - timedelta(days=now.weekday())
    counts = [{True: 0, False: 0} for _ in range(WEEKS)]
    horizon = now + timedelta(weeks=WEEKS)
    for one in held:
        is_secret = one.kind is CredentialKind.SECRET
        days = policy.secret_default_days if is_secret else policy.key_default_days
        # A life that is shorter than the notice would be rotated without end on the day it was made.
        lead = min(policy.warn_before, timedelta(days=days) / 2)
        due = now if one.expires_at is None else max(now, one.expires_at - lead)
        while due < horizon:
            place = (due.date() - first).days // 7
            if place < WEEKS:
                counts[place][is_secret] += 1
            due += timedelta(days=days) - lead
    return [Week(first + timedelta(weeks=place), count[True], count[False]) for place, count in enumerate(counts)]
