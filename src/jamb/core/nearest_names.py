"""What was meant by a name that is not there: as people mistype and as they bring it from elsewhere."""

from __future__ import annotations

from collections.abc import Iterable
from difflib import get_close_matches

# So alike (0 to 1) that it is worth a question.
_ALIKE = 0.72
# Fewer letters of an id are a slip, and mean something else once there is more.
SHORTEST_BEGINNING = 6
# More names than these are no help in a sentence.
MOST_LISTED = 12


def as_written(sent: str, names: Iterable[str]) -> str:
    """Return the one name that was sent but for blanks around it and the case of its letters, else what was sent."""
    known = list(names)
    if sent in known:
        return sent
    found = [name for name in known if name.casefold() == sent.strip().strip("\"'").casefold()]
    return found[0] if len(found) == 1 else sent


def nearest(sent: str, names: Iterable[str]) -> str:
    """Return the name most like what was sent; empty: none is."""
    by_fold = {name.casefold(): name for name in names}
    found = get_close_matches(sent.strip().casefold(), by_fold, 1, _ALIKE)
    return by_fold[found[0]] if found else ""


def did_you_mean(sent: str, names: Iterable[str], otherwise: str) -> str:
    """Return a question about the nearest name, or what to do where none is near."""
    found = nearest(sent, names)
    return f"Did you mean {found}?" if found else otherwise


def listed(names: Iterable[str]) -> str:
    """Return the first names in their order, and how many more there are."""
    known = sorted(names)
    more = f" and {len(known) - MOST_LISTED} more" if len(known) > MOST_LISTED else ""
    return ", ".join(known[:MOST_LISTED]) + more
