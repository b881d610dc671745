"""What a client asks of a person, as the page shows it to them, and what they answer."""

from __future__ import annotations

from typing import Annotated
from uuid import UUID

from pydantic import Field

from jamb.wire.base.shapes import Answered, Moment, Sent

# Sealed by the service: what was asked, for as long as it may be answered.
SealedRequest = Annotated[str, Field(min_length=16, max_length=16_000)]


class AuthorizationLookup(Sent):
    request: SealedRequest


class AuthorizationDecision(Sent):
    """`permissions`: those that the person allows, of the ones that are theirs to allow."""

    request: SealedRequest
    allow: bool
    permissions: Annotated[list[Annotated[str, Field(max_length=80)]], Field(max_length=60)] = Field(
        default_factory=list
    )


class AskedOfPerson(Answered):
    """A permission that a client asks of a person, in words for them. `where`: where alone; empty: everywhere."""

    permission: str
    title: str
    text: str
    where: str = ""


class AskedFor(Answered):
    """What a client asks to do for a person at a resource.

    Attributes:
        already: what it may do for them already. `to_allow`: what they may allow or not. `for_administrator`: what an
            administrator would have to allow first. `not_theirs`: what they may not do themselves, so nor may it.
        about: what it learns about them: profile, email, groups. `stays`: whether it goes on while they are away.
    """

    resource: str
    already: list[AskedOfPerson]
    to_allow: list[AskedOfPerson]
    for_administrator: list[AskedOfPerson]
    not_theirs: list[AskedOfPerson]
    about: list[str]
    stays: bool


class SentOn(Answered):
    """How a person's browser goes on.

    Attributes:
        redirect_to: the address it goes to; empty: to none.
        form: sealed; it goes as the field `answer` of a form to /d/{directory}/answer, and from there to the client
            (OAuth 2.0 Form Post Response Mode). Empty: by the address, or not yet.
    """

    redirect_to: str
    form: str


class AuthorizationAsked(AskedFor, SentOn):
    """What a client asks of a person who is sent to it by their browser; where nothing is to decide, how they go on.

    Attributes:
        asks: whether the person has something to decide; if not, they are sent on at once.
        sign_in: "" when the right person is signed in, "needed" when nobody or somebody of another directory is,
            "again" when they must show that it is them, "factor" when the client wants a second factor of theirs.
        publisher_vouched: whether somebody here vouches for who makes it. `client_uri`, `policy_uri`, `tos_uri`: pages
            about it, and `logo`: its picture as of `Client`, where somebody does.
        unlooked_at: it registered itself, and nobody allowed it anything yet.
    """

    asks: bool
    sign_in: str
    directory: str
    directory_name: str
    client_id: str
    client_name: str
    purpose: str
    publisher: str
    publisher_vouched: bool
    unlooked_at: bool
    support_contact: str
    client_uri: str
    policy_uri: str
    tos_uri: str
    logo: str
    answered_at: str
    login_hint: str
    person: str
    requestable: list[str]
    requested_until: Moment | None


class AuthorizationDecided(SentOn):
    """A client hears what a person decided."""


class RequestOfPerson(Sent):
    """What a client asks, and why the person wants an administrator to allow it."""

    request: SealedRequest
    reason: Annotated[str, Field(min_length=1, max_length=500)]


class RequestMade(Answered):
    """`due_at`: until when it waits for an approver; then it lapses."""

    due_at: Moment


class SignOutLookup(Sent):
    request: SealedRequest


class SignOutLooked(Answered):
    """An application asks to sign somebody out.

    Attributes:
        redirect_to: where they go then; empty: nowhere.
        client_name: who asks; empty: it does not say. `person`: who is signed in; empty: nobody is.
        asks: whether the person is asked first.
    """

    redirect_to: str
    directory_name: str
    client_name: str
    person: str
    asks: bool


class OwnAuthorization(Answered):
    """A client that acts for the person who asks. `last_used_at`: when it last called its resource for them."""

    id: UUID
    client_id: str
    client_name: str
    publisher: str
    resource: str
    permissions: list[AskedOfPerson]
    about: list[str]
    since: Moment
    stays_until: Moment
    last_used_at: Moment | None
