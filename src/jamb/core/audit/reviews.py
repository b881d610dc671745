"""Access reviews: which grants an owner is asked about, and what may be answered."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum
from typing import Any

from jamb.core.errors import BadInput
from jamb.core.permissions import Catalogue, DataClass
from jamb.core.text import NAME, name_fault

NAME_LONGEST = 80
LONGEST_DAYS = 365
WORDS_LONGEST = 500


class Answer(StrEnum):
    """proposed: nobody answered in time, so it is proposed to end it; that takes somebody who may."""

    WAITING = ""
    CONFIRM = "confirm"
    NARROW = "narrow"
    GIVE_UP = "give-up"
    PROPOSED = "proposed"


# What an owner may say.
ANSWERS = frozenset({Answer.CONFIRM, Answer.NARROW, Answer.GIVE_UP})
# What is then to be carried out by somebody who may.
TO_CARRY_OUT = frozenset({Answer.NARROW, Answer.GIVE_UP, Answer.PROPOSED})
_ORDER = (DataClass.OPEN, DataClass.INTERNAL, DataClass.PERSONAL, DataClass.RESTRICTED)


@dataclass(frozen=True, slots=True)
class ReviewScope:
    """`resource`: this one alone. `data`: grants that open data of this class or a graver one. Both empty: all."""

    resource: str = ""
    data: DataClass = DataClass.OPEN
    clients: tuple[str, ...] = ()

    def holds(self, catalogue: Catalogue, permission: str) -> bool:
        """Tell whether a grant of a permission is asked about."""
        if self.resource and catalogue.name != self.resource:
            return False
        least = _ORDER.index(self.data)
        return any(
            _ORDER.index(catalogue.operations[name].data_class) >= least for name in catalogue.opened_by(permission)
        )

    def document(self) -> dict[str, Any]:
        return {"resource": self.resource, "data": self.data.value, "clients": list(self.clients)}

    @classmethod
    def read(cls, kept: dict[str, Any]) -> ReviewScope:
        return cls(kept["resource"], DataClass(kept["data"]), tuple(kept["clients"]))

    @property
    def words(self) -> str:
        parts = [f"at {self.resource}" if self.resource else "everywhere"]
        if self.data is not DataClass.OPEN:
            parts.append(f"that open {self.data.value} data" + ("" if self.data is _ORDER[-1] else " or graver"))
        if self.clients:
            parts.append(f"of {len(self.clients)} clients")
        return "grants and roles " + ", ".join(parts)


def check_review(name: str, days: int) -> str:
    """Return the tidied name, or raise `BadInput`."""
    tidy = " ".join(name.split())
    if not tidy or len(tidy) > NAME_LONGEST or name_fault(tidy):
        raise BadInput.field("name", name, f"1 to {NAME_LONGEST} {NAME}")
    if not 1 <= days <= LONGEST_DAYS:
        raise BadInput.field("days", days, f"1 to {LONGEST_DAYS}")
    return tidy
