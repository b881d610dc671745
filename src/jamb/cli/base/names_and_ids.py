"""Which of several things a word on the command line means: a whole id, how one begins, or a name."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable
from typing import TypeVar
from uuid import UUID

from jamb.core.errors import BadInput, NotFound, shorten
from jamb.core.nearest_names import SHORTEST_BEGINNING, did_you_mean

MOST_NAMED = 5
T = TypeVar("T")


def meant(
    things: Iterable[T],
    reference: str,
    names: Callable[[T], Collection[str]] = lambda _: (),
    *,
    noun: str,
    of: str = "",
    see: str,
    key: Callable[[T], object] = lambda thing: thing.id,  # type: ignore[attr-defined]
) -> T:
    """Return the one thing that has this id, else the only one that has this name or whose id begins so.

    Args:
        names: by what people know it.
        noun: what it is, as "credential".
        of: whose it is, as "Tug dispatcher".
        see: the command that lists them.

    Raises:
        NotFound: none has; the nearest name is told. BadInput: several have; their ids are told.
    """
    wanted = reference.strip().strip("\"'").casefold()
    known = list(things)
    whole = [one for one in known if str(key(one)) == wanted]
    # A name may read as how another's id begins: then neither is meant for sure.
    fits = whole or [one for one in known if _named(wanted, str(key(one)), names(one))]
    if len(fits) == 1:
        return fits[0]
    field = noun.split(maxsplit=1)[0]
    if fits:
        ids = ", ".join(str(key(one)) for one in fits[:MOST_NAMED])
        more = f" and {len(fits) - MOST_NAMED} more" if len(fits) > MOST_NAMED else ""
        raise BadInput.field(field, reference, f"one of the {len(fits)} that fit: {ids}{more}")
    every = {name for one in known for name in names(one)}
    raise NotFound(
        f"There is no {noun} “{shorten(reference)}”{f' of “{of}”' if of else ''}.",
        next_step=did_you_mean(wanted, every, f"See `{see}`."),
    )


def whole_id(reference: str) -> UUID | None:
    """Return the id that a word is, if it is a whole one: of a thing that a list has no more it is told what became."""
    try:
        return UUID(reference.strip())
    except ValueError:
        return None


def _named(wanted: str, identity: str, names: Collection[str]) -> bool:
    begins = len(wanted) >= SHORTEST_BEGINNING and identity.startswith(wanted)
    return begins or wanted in {name.casefold() for name in names}
