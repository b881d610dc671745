"""Asks as a list from a manual: which names are known, which come along anyway, and which are heavy."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from jamb.core.errors import BadInput
from jamb.core.permissions import AccessKind, Catalogue, Effect, weigh

MOST_NAMES = 500
_SEPARATORS = re.compile(r"[\s,;|\"'`()\[\]]+")
_BULLET = re.compile(r"[-*•·–]+\Z")
_KIND_WORDS = {kind.value: kind for kind in AccessKind}


@dataclass(frozen=True, slots=True)
class ListedAsk:
    """One known permission of the list, and what there is to say of it before it is asked.

    Attributes:
        asked: it is asked already, of this kind.
        implied_by: another on the list, asked or held, that brings it along: asking for it adds nothing.
        control: operations with effect control that it opens: more than reading and writing.
    """

    resource: str
    permission: str
    kind: AccessKind
    weight: int
    asked: bool
    implied_by: str
    control: tuple[str, ...]

    @property
    def needed(self) -> bool:
        return not self.asked and not self.implied_by


@dataclass(frozen=True, slots=True)
class CheckedList:
    """`unclear` names exist at several resources, or cannot be held in the wished kind: word and reason."""

    asks: tuple[ListedAsk, ...]
    unknown: tuple[str, ...]
    unclear: tuple[tuple[str, str], ...]


def check_list(
    text: str,
    catalogues: Iterable[Catalogue],
    kind: AccessKind,
    asked: Mapping[tuple[str, AccessKind], frozenset[str]],
    held: Mapping[tuple[str, AccessKind], frozenset[str]],
) -> CheckedList:
    """Read a pasted list: one permission a line or separated by commas, optionally after its resource.

    A line may say `delegated` or `application`; otherwise `kind` is meant. A line that ends with a colon is a heading:
    a kind in it holds for what follows. The name of a resource says where the other names of its line belong.

    Args:
        asked: permissions asked already, by (resource, kind).
        held: permissions granted already, by (resource, kind).
    """
    by_name = {catalogue.name: catalogue for catalogue in catalogues}
    wanted: dict[tuple[str, str, AccessKind], None] = {}
    unknown: list[str] = []
    unclear: list[tuple[str, str]] = []
    for line in text.splitlines():
        words = [word for word in _SEPARATORS.split(line.strip()) if word and not _BULLET.match(word)]
        said = next((_KIND_WORDS[word.lower()] for word in words if word.lower() in _KIND_WORDS), kind)
        if line.rstrip().endswith(":"):
            kind = said
            continue
        place = next((word for word in words if word in by_name), None)
        for word in words:
            if word.lower() in _KIND_WORDS or word == place:
                continue
            homes = [name for name in ([place] if place else by_name) if word in by_name[name].permissions]
            if not homes:
                unknown.append(word)
            elif len(homes) > 1:
                unclear.append((word, f"{', '.join(homes)} each have it: write the resource before it"))
            elif said not in by_name[homes[0]].permissions[word].kinds:
                unclear.append((word, f"{homes[0]} does not offer it as {said.value}"))
            else:
                wanted[homes[0], word, said] = None
    if len(wanted) + len(unknown) > MOST_NAMES:
        raise BadInput.field("list", f"{len(wanted) + len(unknown)} names", f"at most {MOST_NAMES}")
    asks = tuple(_listed(by_name[place], name, said, wanted, asked, held) for place, name, said in wanted)
    return CheckedList(asks, tuple(dict.fromkeys(unknown)), tuple(dict.fromkeys(unclear)))


def implied_by(catalogue: Catalogue, permission: str, others: Iterable[str]) -> str:
    """Return the first of the others that implies the permission, or an empty text."""
    return next((name for name in sorted(others) if name != permission and permission in catalogue.closure(name)), "")


def _listed(
    catalogue: Catalogue,
    permission: str,
    kind: AccessKind,
    wanted: Iterable[tuple[str, str, AccessKind]],
    asked: Mapping[tuple[str, AccessKind], frozenset[str]],
    held: Mapping[tuple[str, AccessKind], frozenset[str]],
) -> ListedAsk:
    key = (catalogue.name, kind)
    beside = {name for place, name, said in wanted if (place, said) == key}
    beside |= asked.get(key, frozenset()) | held.get(key, frozenset())
    opened = catalogue.opened_by(permission)
    return ListedAsk(
        catalogue.name,
        permission,
        kind,
        weigh(catalogue, opened),
        permission in asked.get(key, frozenset()),
        implied_by(catalogue, permission, beside),
        tuple(sorted(name for name in opened if catalogue.operations[name].effect is Effect.CONTROL)),
    )
