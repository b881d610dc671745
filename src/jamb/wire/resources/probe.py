"""Probes: a live test of a client at a resource; and the words for what a token says."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field, SecretStr

from jamb.wire.base.shapes import Answered, Sent
from jamb.wire.resources.access import Explanation


class NewProbe(Sent):
    """`operation` of `resource` is called, on `object` if it concerns one.

    `secret`: the client's own, as its integrator has it; it is not kept. Left out: a token that serves the probe alone,
    with which the resource checks everything and does nothing. `person`: login or id of somebody that the client is to
    act for, without their doing; left out: it acts as itself.
    """

    resource: Annotated[str, Field(min_length=1, max_length=300)]
    operation: Annotated[str, Field(min_length=1, max_length=80)]
    object: Annotated[str, Field(max_length=200)] | None = None
    secret: Annotated[SecretStr, Field(max_length=600)] | None = None
    person: Annotated[str, Field(max_length=200)] | None = None


class ReadClaim(Answered):
    name: str
    title: str
    value: str
    words: str
    source: str


class ClaimWords(Answered):
    name: str
    title: str
    words: str
    source: str


class TokenStep(Answered):
    """How the token was fetched, and what it says. `error`: why there is none."""

    way: str
    error: str
    header: list[ReadClaim]
    claims: list[ReadClaim]
    wrong: list[str]


class CallStep(Answered):
    """The call, and how the resource answered. `status` is 0 where it did not; `said`: in its own words."""

    method: str
    url: str
    status: int
    said: str
    words: str


class Probe(Answered):
    """`works`: the whole chain does. `explanation`: every check behind it, with the token that was used."""

    works: bool
    verdict: str
    token: TokenStep
    call: CallStep | None
    explanation: Explanation
