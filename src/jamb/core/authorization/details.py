"""Details of what a client asks for (RFC 9396 section 2): permissions, and where alone it needs them.

They are of the one type that tokens here have (`core.reach.details`): a permission that is named in a detail counts
there alone; one that is named in the scope, too, counts wherever it is given.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

from jamb.core.access.standing import Holding
from jamb.core.addresses import without_root
from jamb.core.authorization.refused import RequestRefused
from jamb.core.reach import EVERYWHERE, CollectionTree
from jamb.core.reach.details import TYPE, reach_of
from jamb.core.text import UnfitText, line_fault, read_json

LONGEST = 4_000
MOST, MOST_NAMES = 10, 50
INVALID = "invalid_authorization_details"
_MEMBERS = {"type", "locations", "privileges", "only", "all_but"}
Details = tuple[Mapping[str, Any], ...]


def read_details(text: str) -> Details:
    """Return what is asked, checked to the letter; nothing where nothing was sent.

    Raises:
        RequestRefused: `invalid_authorization_details` (section 5), with what is wrong.
    """
    if not text:
        return ()
    try:
        sent = read_json(text) if len(text) <= LONGEST else None
    except UnfitText:
        sent = None
    if not isinstance(sent, list) or not 1 <= len(sent) <= MOST:
        raise RequestRefused(INVALID, f"authorization_details is a JSON array of 1 to {MOST} objects.")
    return tuple(_detail(one) for one in sent)


def _detail(sent: Any) -> Mapping[str, Any]:
    if not isinstance(sent, dict) or sent.get("type") != TYPE:
        raise RequestRefused(INVALID, f"Every detail must be of the type {TYPE}.")
    unknown = sorted(set(sent) - _MEMBERS)
    if unknown:
        raise RequestRefused(INVALID, f"A detail of {TYPE} has no {unknown[0][:40]}.")
    places = [without_root(one) for one in _names(sent, "locations")]
    kept = {"privileges": _names(sent, "privileges", needed=True), "locations": places}
    if len(kept["locations"]) > 1:
        raise RequestRefused(INVALID, "A detail names one location: a token is for one resource.")
    if "only" in sent and "all_but" in sent:
        raise RequestRefused(INVALID, "A detail has only or all_but, not both.")
    bounds = {name: _names(sent, name, needed=True) for name in ("only", "all_but") if name in sent}
    return {**kept, **bounds}


def _names(sent: Mapping[str, Any], name: str, *, needed: bool = False) -> list[str]:
    listed = sent.get(name, [])
    fit = isinstance(listed, list) and all(isinstance(one, str) and one and not line_fault(one) for one in listed)
    if not fit or len(listed) > MOST_NAMES or (needed and not listed):
        raise RequestRefused(INVALID, f"The member {name} of a detail is a list of at most {MOST_NAMES} names.")
    return sorted(set(listed))


def privileges(details: Details) -> tuple[str, ...]:
    """Return the permissions that details name."""
    return tuple(dict.fromkeys(name for one in details for name in one["privileges"]))


def location(details: Details) -> str:
    """Return the resource that details name; empty: none. Raises `RequestRefused` where they name several."""
    named = {place for one in details for place in one["locations"]}
    if len(named) > 1:
        raise RequestRefused(INVALID, "The details name several locations: a token is for one resource.")
    return next(iter(named), "")


def holdings(details: Details, scope: Iterable[str]) -> list[Holding]:
    """Return what is asked for, with where: by scope everywhere, by details where they say."""
    asked = [Holding(name, EVERYWHERE) for name in scope]
    asked += [Holding(name, reach_of(_bounds(one))) for one in details for name in one["privileges"]]
    return asked


def check_collections(details: Details, tree: CollectionTree) -> None:
    """Raise `RequestRefused` where details name collections that the resource has not."""
    unknown = [
        path
        for one in details
        for path in (*one.get("only", ()), *one.get("all_but", ()))
        if path not in tree.collections
    ]
    if unknown:
        raise RequestRefused(INVALID, f"The resource has no collection {unknown[0][:80]}.")


def _bounds(detail: Mapping[str, Any]) -> dict[str, Any]:
    return {name: detail[name] for name in ("only", "all_but") if name in detail}
