"""A directory and its policy."""

from __future__ import annotations

from dataclasses import fields
from typing import TYPE_CHECKING, Annotated, Any, get_type_hints

from pydantic import Field, StrictBool, create_model

from jamb.core.directory.policy import BOUNDS, DirectoryPolicy
from jamb.wire.base.shapes import WHOLE, Answered, Sent, Versioned

_KINDS = get_type_hints(DirectoryPolicy)

# What the core knows of a policy is what is answered: a setting is written once.
if TYPE_CHECKING:
    Policy = DirectoryPolicy
else:
    Policy = create_model(
        "Policy",
        __base__=Answered,
        **{one.name: (_KINDS[one.name], ...) for one in fields(DirectoryPolicy)},
    )


class _Settings(Sent):
    """The settings to change; those left out stay."""

    registering_groups: Annotated[tuple[str, ...], Field(max_length=100)] | None = None


def _setting(name: str) -> tuple[Any, Any]:
    """Return the type and default of a setting that may be changed, within the bounds that the core has for it."""
    kind = _KINDS[name]
    if name in BOUNDS:
        low, high = BOUNDS[name]
        kind = Annotated[int, Field(strict=True, ge=low, le=high), WHOLE]
    return (StrictBool if kind is bool else kind) | None, None


_changeable: dict[str, Any] = {
    one.name: _setting(one.name) for one in fields(DirectoryPolicy) if one.name != "registering_groups"
}
PolicyChange = create_model("PolicyChange", __base__=_Settings, __doc__=_Settings.__doc__, **_changeable)


class Directory(Versioned):
    edited = frozenset({"policy"})

    slug: str
    name: str
    domain: str
    issuer: str
    token_endpoint: str
    policy: Policy


class Breach(Answered):
    """Something that a client has and would not be given. `setting`: of the policy that refuses it."""

    client_id: str
    client_name: str
    setting: str
    words: str


class PolicyPreview(Answered):
    """What a changed policy would find. `new`: not in breach today; `already`: how many are; `resolved`: are no
    more.
    """

    new: list[Breach]
    already: int
    resolved: int
