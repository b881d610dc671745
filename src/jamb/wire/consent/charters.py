"""Charters: what a registration is to be, in any directory."""

from __future__ import annotations

from typing import Annotated, Self

from pydantic import ConfigDict, Field, model_validator

from jamb.core.clients.clients import MOST_REDIRECTS, ClientKind, GrantType
from jamb.core.consent import charter as core
from jamb.core.consent.charter import StepKind
from jamb.core.credentials.kinds import CredentialKind
from jamb.core.permissions import AccessKind
from jamb.core.reach import Reach, ReachKind
from jamb.wire.base.shapes import WHOLE, Answered, Moment, Names, Sent
from jamb.wire.base.text import MaybeHttpsAddress, MaybeOwnPage, PublisherDomain, RedirectUri, ShortName
from jamb.wire.clients.clients import ClientName, GrantTypes, Purpose, SupportContact
from jamb.wire.consent.consent import Name, Reason, ResourceName
from jamb.wire.resources import reach as wire_reach
from jamb.wire.resources.reach import Path

VERSION = 1


class CharterAsk(Sent):
    """A permission to be asked, and granted: everywhere, only `in` these collections, or everywhere `except` these."""

    model_config = ConfigDict(populate_by_name=True)

    resource: ResourceName
    permission: Name
    kind: AccessKind = AccessKind.APPLICATION
    within: Annotated[list[Path], Field(alias="in", max_length=1000)] = Field(default_factory=list)
    outside: Annotated[list[Path], Field(alias="except", max_length=1000)] = Field(default_factory=list)
    reason: Reason = ""

    @model_validator(mode="after")
    def _one_reach(self) -> Self:
        if self.within and self.outside:
            raise ValueError("either in or except, not both")
        return self

    def value(self) -> core.CharterAsk:
        kind = ReachKind.ONLY if self.within else ReachKind.ALL_BUT if self.outside else ReachKind.EVERYWHERE
        reach = Reach.of(kind, self.within or self.outside)
        return core.CharterAsk(self.resource, self.permission, self.kind, reach, self.reason)


class CharterCredential(Sent):
    """How the client is to prove itself; `days`: how long one credential may live, null: as the policy says."""

    kind: CredentialKind
    days: Annotated[int, Field(strict=True, ge=1, le=3650), WHOLE] | None = None


class Charter(Sent):
    """What a registration is to be. `charter`: the version of this form."""

    charter: Annotated[int, Field(strict=True, ge=VERSION, le=VERSION), WHOLE] = VERSION
    name: ClientName
    purpose: Purpose
    kind: ClientKind = ClientKind.SERVICE
    redirect_uris: Annotated[list[RedirectUri], Field(max_length=MOST_REDIRECTS)] = Field(default_factory=list)
    post_logout_redirect_uris: Annotated[list[RedirectUri], Field(max_length=MOST_REDIRECTS)] = Field(
        default_factory=list
    )
    backchannel_logout_uri: MaybeOwnPage = ""
    sign_in_groups: Annotated[list[ShortName], Field(max_length=MOST_REDIRECTS)] = Field(default_factory=list)
    publisher: PublisherDomain = ""
    support_contact: SupportContact = ""
    client_uri: MaybeHttpsAddress = ""
    policy_uri: MaybeHttpsAddress = ""
    tos_uri: MaybeHttpsAddress = ""
    grant_types: GrantTypes = Field(default_factory=list)
    credential: CharterCredential | None = None
    asks: Annotated[list[CharterAsk], Field(max_length=500)] = Field(default_factory=list)

    def value(self) -> core.Charter:
        credential = self.credential
        return core.Charter(
            self.name,
            self.purpose,
            self.kind,
            tuple(self.redirect_uris),
            self.publisher,
            tuple(one.value() for one in self.asks),
            core.CharterCredential(credential.kind, credential.days) if credential is not None else None,
            tuple(self.post_logout_redirect_uris),
            self.backchannel_logout_uri,
            tuple(sorted(self.sign_in_groups)),
            self.support_contact,
            self.client_uri,
            self.policy_uri,
            self.tos_uri,
            # All of its kind are said by naming none.
            () if set(self.grant_types) == self.kind.grant_types else tuple(sorted(self.grant_types)),
        )


class WrittenCharter(Answered):
    """A client's charter. `rightsized`: resources at which it declares less than is held. `file`: the same, as TOML."""

    client_id: str
    directory: str
    at: Moment
    rightsized: Names
    charter: Charter
    file: str


class CharterStep(Answered):
    """One difference: `what`, as it is `here` and as it is `declared`; `kind`: what would end it.

    `reach` and `reason`: as declared.
    """

    kind: StepKind
    what: str
    here: str
    declared: str
    resource: str
    permission: str
    access: AccessKind | None
    reach: wire_reach.Reach
    reason: str


class CharterEffect(Answered):
    """What following the charter changes at one resource: operations, by what becomes of them."""

    resource: str
    kind: AccessKind
    newly: Names
    wider: Names
    narrower: Names
    no_longer: Names


class CharterComparison(Answered):
    """`client_id` null: no client of this name is here. No steps: it is as the charter says."""

    client_id: str | None
    client_name: str
    steps: list[CharterStep]
    effects: list[CharterEffect]


def charter_of(one: core.Charter) -> Charter:
    credential = one.credential
    return Charter(
        name=one.name,
        purpose=one.purpose,
        kind=one.kind,
        redirect_uris=list(one.redirect_uris),
        post_logout_redirect_uris=list(one.post_logout_redirect_uris),
        backchannel_logout_uri=one.backchannel_logout_uri,
        sign_in_groups=list(one.sign_in_groups),
        publisher=one.publisher,
        support_contact=one.support_contact,
        client_uri=one.client_uri,
        policy_uri=one.policy_uri,
        tos_uri=one.tos_uri,
        grant_types=[GrantType(name) for name in one.grant_types],
        credential=CharterCredential(kind=credential.kind, days=credential.days) if credential is not None else None,
        asks=[
            CharterAsk(
                resource=ask.resource,
                permission=ask.permission,
                kind=ask.kind,
                reason=ask.reason,
                within=sorted(ask.reach.collections) if ask.reach.kind is ReachKind.ONLY else [],
                outside=sorted(ask.reach.collections) if ask.reach.kind is ReachKind.ALL_BUT else [],
            )
            for ask in one.asks
        ],
    )
