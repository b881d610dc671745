"""Sign-in links: by such a link a person chooses a password, once."""

from __future__ import annotations

from typing import Annotated
from uuid import UUID

from pydantic import Field, StrictBool

from jamb.core.directory.sign_in_links import DEFAULT_HOURS, MOST_HOURS, SignInLinkState
from jamb.wire.base.shapes import WHOLE, Answered, Moment, Sent
from jamb.wire.base.text import LinkKey
from jamb.wire.directory.people import NewPassword


class NewSignInLink(Sent):
    """`mailed`: it goes to the person's login as a mail address, and nobody else sees it; else it is answered."""

    hours: Annotated[int, Field(strict=True, ge=1, le=MOST_HOURS), WHOLE] = DEFAULT_HOURS
    mailed: StrictBool = False


class SignInLink(Answered):
    """A link just made. `link`: shown here once only; empty where it was mailed."""

    id: UUID
    login: str
    expires_at: Moment
    mailed: bool
    link: str


class SignInLinkKey(Sent):
    """`key`: what stands behind the # of the link."""

    key: LinkKey


class WaitingSignInLink(Answered):
    """Whom a link is for, before a password is chosen by it."""

    login: str
    name: str
    directory: str
    directory_name: str
    made_by: str
    expires_at: Moment
    state: SignInLinkState


class ChosenPassword(Sent):
    key: LinkKey
    password: NewPassword
