"""Outside OpenID providers by which people of a directory sign in."""

from __future__ import annotations

from typing import Annotated, Any

from pydantic import Field, SecretStr, StrictBool

from jamb.core.addresses import WEB_PATTERN
from jamb.core.directory.providers import CLIENT_ID_LONGEST, MOST_GROUPS, SECRET_LONGEST, TITLE_LONGEST
from jamb.wire.base.shapes import Answered, Foreign, Moment, Sent, Versioned
from jamb.wire.base.text import NAMED, MaybeSaid, ShortName, like


class ProviderSent(Sent):
    """`secret`: what the provider gave with the client id; null: what it has stays. `groups`: names of groups here, by
    what the provider calls them in the claim `groups_claim`: who is in which of these, the provider decides.

    `adds_people`: whoever it vouches for is added, without a role; else only people who are here sign in.
    """

    title: Annotated[str, Field(min_length=1, max_length=TITLE_LONGEST), NAMED]
    issuer: Annotated[str, Field(min_length=1, max_length=400), like(WEB_PATTERN)]
    client_id: Annotated[str, Field(min_length=1, max_length=CLIENT_ID_LONGEST)]
    secret: Annotated[SecretStr, Field(max_length=SECRET_LONGEST)] | None = None
    adds_people: StrictBool = False
    groups_claim: Annotated[str, Field(min_length=1, max_length=TITLE_LONGEST)] = "groups"
    groups: Annotated[dict[Annotated[str, Field(max_length=200)], ShortName], Field(max_length=MOST_GROUPS)] = Field(
        default_factory=dict
    )
    reason: MaybeSaid = ""


class SignInProvider(Versioned):
    """`redirect_uri`: what the provider must know of this directory. `linked`: how many people signed in by it."""

    edited = frozenset({"title", "issuer", "client_id", "adds_people", "groups_claim", "groups"})

    name: str
    title: str
    issuer: str
    client_id: str
    has_secret: bool
    adds_people: bool
    groups_claim: str
    groups: dict[str, str]
    made_at: Moment
    made_by: str
    linked: int
    redirect_uri: str


class ClaimsShown(Sent):
    """`claims`: those of an ID token, as the provider would send them."""

    claims: Annotated[dict[str, Any], Foreign(), Field(max_length=100)]


class WhoWouldSignIn(Answered):
    """What would become of such claims. `login`: who it is, or would be; empty: nobody.

    `refused`: then the reason, as the page of sign-in is sent it; `why`: in words.
    `added`: whether they would be added. `joins`, `leaves`: groups. `roles`: those that they would have then.
    """

    login: str
    refused: str
    why: str = ""
    added: bool
    joins: list[str]
    leaves: list[str]
    roles: list[str]


class ProviderOffered(Answered):
    """A provider as the page offers it. `href`: where the browser goes."""

    title: str
    href: str


class ProvidersWanted(Sent):
    """By login (those of the directories with its domain) or by the short name of a directory."""

    login: Annotated[str, Field(max_length=200)] = ""
    directory: Annotated[str, Field(max_length=80)] = ""
