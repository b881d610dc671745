"""Clients: registration, list lines, dossiers."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import Annotated, TypedDict
from uuid import UUID

from pydantic import Field, StrictBool

from jamb.core.clients.clients import (
    CONTACT_LONGEST,
    CONTACT_PATTERN,
    MOST_REDIRECTS,
    NAME_LONGEST,
    PURPOSE_LONGEST,
    ClientKind,
    ClientState,
    GrantType,
    OwnerLevel,
    Registration,
    registration,
)
from jamb.core.clients.logos import LARGEST
from jamb.core.clients.next_steps import NextStepKind
from jamb.core.credentials.term import CredentialState
from jamb.core.ladder import UsedState
from jamb.core.permissions import AccessKind
from jamb.wire.audit.audit import Finding, Severity
from jamb.wire.base.shapes import Answered, Moment, Sent, Versioned
from jamb.wire.base.text import (
    NAMED,
    MaybeHttpsAddress,
    MaybeOwnPage,
    MaybeSaid,
    PublisherDomain,
    RedirectUri,
    ShortName,
    like,
)
from jamb.wire.credentials.credentials import Credential
from jamb.wire.resources.reach import Reach
from jamb.wire.resources.resources import Operation

ClientName = Annotated[str, Field(min_length=1, max_length=NAME_LONGEST), NAMED]
Purpose = Annotated[str, Field(min_length=1, max_length=PURPOSE_LONGEST), NAMED]
# Where users get help: a mail address or a page by https.
SupportContact = Annotated[str, Field(max_length=CONTACT_LONGEST), like(CONTACT_PATTERN, or_nothing=True)]
# A person: login or id.
Reference = Annotated[str, Field(min_length=1, max_length=200)]
LogoSent = Annotated[str, Field(max_length=-(-LARGEST // 3) * 4), like(r"^[A-Za-z0-9+/]*={0,2}$")]
GrantTypes = Annotated[list[GrantType], Field(max_length=len(GrantType))]


class NewClient(Sent):
    """`owners`: logins or ids of people of the directory. `publisher`: the domain of whoever makes it, if another.

    `support_contact`: where its users get help. `trial_ends_at`: until when it is let in on trial.
    `post_logout_redirect_uris`: where people may be sent when they signed out. `backchannel_logout_uri`: where it is
    told that somebody signed out. `sign_in_groups`: whose people alone may sign in to it; none: everybody may.
    `client_uri`, `policy_uri`, `tos_uri`: pages for its users: itself, its privacy policy, its terms.
    `grant_types`: by which it gets tokens, of those of its kind; none: by all of them.
    """

    name: ClientName
    purpose: Purpose
    kind: ClientKind = ClientKind.SERVICE
    owners: Annotated[list[Reference], Field(max_length=50)] = Field(default_factory=list)
    redirect_uris: Annotated[list[RedirectUri], Field(max_length=MOST_REDIRECTS)] = Field(default_factory=list)
    publisher: PublisherDomain = ""
    support_contact: SupportContact = ""
    trial_ends_at: Moment | None = None
    post_logout_redirect_uris: Annotated[list[RedirectUri], Field(max_length=MOST_REDIRECTS)] = Field(
        default_factory=list
    )
    backchannel_logout_uri: MaybeOwnPage = ""
    sign_in_groups: Annotated[list[ShortName], Field(max_length=MOST_REDIRECTS)] = Field(default_factory=list)
    client_uri: MaybeHttpsAddress = ""
    policy_uri: MaybeHttpsAddress = ""
    tos_uri: MaybeHttpsAddress = ""
    grant_types: GrantTypes = Field(default_factory=list)

    def registration(self) -> Registration:
        """Return it tidied. Raises `BadInput` with every violation at once."""
        return registration(**self.model_dump(exclude={"owners"}))


class Registered(TypedDict, total=False):
    """What may be said of a new client beside name and purpose."""

    kind: ClientKind
    owners: Sequence[str]
    redirect_uris: Sequence[str]
    publisher: str
    support_contact: str
    trial_ends_at: datetime | None
    post_logout_redirect_uris: Sequence[str]
    backchannel_logout_uri: str
    sign_in_groups: Sequence[str]
    client_uri: str
    policy_uri: str
    tos_uri: str
    grant_types: Sequence[GrantType]


class Changed(TypedDict, total=False):
    """What may be changed of a registration; None or left out: it stays. `no_trial`: it is to stay for good."""

    name: str | None
    purpose: str | None
    redirect_uris: Sequence[str] | None
    publisher: str | None
    support_contact: str | None
    trial_ends_at: datetime | None
    no_trial: bool
    post_logout_redirect_uris: Sequence[str] | None
    backchannel_logout_uri: str | None
    sign_in_groups: Sequence[str] | None
    client_uri: str | None
    policy_uri: str | None
    tos_uri: str | None
    grant_types: Sequence[GrantType] | None
    logo: bytes | None


class RegistrationChange(Sent):
    """What to change of a registration; null or left out: it stays. `no_trial`: it is to stay for good.

    `grant_types`: none named: all of its kind again. `logo`: a PNG, JPEG or WEBP picture in base64 (RFC 4648 section
    4); empty: it is to have none.
    """

    name: ClientName | None = None
    purpose: Purpose | None = None
    redirect_uris: Annotated[list[RedirectUri], Field(max_length=MOST_REDIRECTS)] | None = None
    publisher: PublisherDomain | None = None
    support_contact: SupportContact | None = None
    trial_ends_at: Moment | None = None
    no_trial: StrictBool = False
    post_logout_redirect_uris: Annotated[list[RedirectUri], Field(max_length=MOST_REDIRECTS)] | None = None
    backchannel_logout_uri: MaybeOwnPage | None = None
    sign_in_groups: Annotated[list[ShortName], Field(max_length=MOST_REDIRECTS)] | None = None
    client_uri: MaybeHttpsAddress | None = None
    policy_uri: MaybeHttpsAddress | None = None
    tos_uri: MaybeHttpsAddress | None = None
    grant_types: GrantTypes | None = None
    logo: LogoSent | None = None


class OwnersChange(Sent):
    """Logins or ids of people of the directory."""

    add: Annotated[list[Reference], Field(max_length=50)] = Field(default_factory=list)
    remove: Annotated[list[Reference], Field(max_length=50)] = Field(default_factory=list)
    level: OwnerLevel = OwnerLevel.FULL


class StateChange(Sent):
    """Disabling revokes the client's tokens too."""

    state: ClientState
    reason: MaybeSaid = ""


class TokenRevocation(Sent):
    reason: MaybeSaid = ""


class TokensRevoked(Answered):
    """Tokens issued until `at` are refused; `live_tokens` of them had not run out."""

    at: Moment
    live_tokens: int
    tokens_until: Moment


class Owner(Answered):
    """full: everything about the client. edit: asks, but adds neither owner nor credential. read: sees it."""

    id: UUID
    name: str
    level: OwnerLevel


class LadderCount(Answered):
    asked: int
    granted: int
    used: int
    waiting: int


class NextStep(Answered):
    kind: NextStepKind
    words: str


class Client(Versioned):
    """One client as lists show it. `next_steps`: before it works, in order. `grant_types`: by which it gets tokens.

    `logo`: its picture is at /d/{directory}/logos/{logo}; empty: it has none.
    """

    edited = frozenset(
        [
            "name",
            "purpose",
            "redirect_uris",
            "publisher",
            "support_contact",
            "trial_ends_at",
            "post_logout_redirect_uris",
            "backchannel_logout_uri",
            "sign_in_groups",
            "client_uri",
            "policy_uri",
            "tos_uri",
            "grant_types",
            "logo",
        ]
    )

    id: str
    name: str
    purpose: str
    kind: ClientKind
    grant_types: list[GrantType]
    state: ClientState
    registered_at: Moment
    registered_by: str
    owners: list[Owner]
    ladder: LadderCount
    credential_state: CredentialState | None
    next_expiry: Moment | None
    last_used_at: Moment | None
    findings: int
    worst: Severity | None
    next_steps: list[NextStep]
    redirect_uris: list[str]
    publisher: str
    support_contact: str
    trial_ends_at: Moment | None
    post_logout_redirect_uris: list[str]
    backchannel_logout_uri: str
    sign_in_groups: list[str]
    client_uri: str
    policy_uri: str
    tos_uri: str
    logo: str


class Holding(Answered):
    """One way in which a permission is held. `person`: the one it covers. `through`: the role that gives it."""

    reach: Reach
    granted_at: Moment
    expires_at: Moment | None
    granted_by: str
    person_id: UUID | None
    person: str
    by_person: bool
    through: str


class Rung(Answered):
    """One permission with its asked, granted and used. `calls` are per day over the last thirty, today last.

    `granted_at`, `granted_by` and `expires_at` are of the holding that counts first; `holdings` has all.
    """

    permission: str
    title: str
    kind: AccessKind
    ask_id: UUID | None
    asked_at: Moment | None
    asked_by: str
    reason: str
    wished: Reach
    granted_at: Moment | None
    granted_by: str
    expires_at: Moment | None
    holdings: list[Holding]
    used: UsedState
    used_operations: list[str]
    opens: list[str]
    last_used_at: Moment | None
    calls: list[int]


class ResourceLadder(Answered):
    """`uncounted_until`: calls before this may not have been counted, so nothing is called unused soon after it."""

    resource: str
    title: str
    identifier: str
    object_name: str
    uncounted_until: Moment | None
    rungs: list[Rung]
    operations: list[Operation]


class Dossier(Answered):
    """`may`: the operations of Jamb's own API that the reader may do with this client."""

    client: Client
    resources: list[ResourceLadder]
    credentials: list[Credential]
    findings: list[Finding]
    may: list[str]
