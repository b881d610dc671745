"""Rotations."""

from __future__ import annotations

from datetime import date
from typing import Annotated, Literal
from uuid import UUID

from pydantic import Field, StrictBool

from jamb.core.credentials.handover import Deliver
from jamb.core.credentials.kinds import KeyType
from jamb.core.rotation import RotationState
from jamb.core.rotation.lifecycle import LONGEST_OVERLAP_DAYS
from jamb.wire.base.problems import Problem
from jamb.wire.base.shapes import WHOLE, Answered, Moment, Sent
from jamb.wire.base.text import MaybeSaid
from jamb.wire.credentials.credentials import (
    CertificateSent,
    Credential,
    Days,
    IssuedSecret,
    IssuerSent,
    KeysSent,
    MadeCertificate,
    RequestSent,
)


class SecretWanted(Sent):
    """A secret, issued here."""

    kind: Literal["secret"]


class CertificateWanted(Sent):
    """A certificate with its key pair, made here."""

    kind: Literal["made-certificate"]
    key_type: KeyType = KeyType.P256


Successor = Annotated[
    SecretWanted | CertificateWanted | CertificateSent | RequestSent | KeysSent | IssuerSent,
    Field(discriminator="kind"),
]


OverlapDays = Annotated[int, Field(strict=True, ge=1, le=LONGEST_OVERLAP_DAYS), WHOLE]


class NewRotation(Sent):
    """`successor`: what follows the old one; left out: one like it. `overlap_days`: the policy's when left out.

    `id`: chosen by the caller, so that one who never heard the answer can read the rotation and have its secret again.
    `deliver`: "owners" has what follows made here and its link sent to the owners; left out, it is in the answer.
    """

    id: UUID | None = None
    successor: Successor | None = None
    days: Days | None = None
    overlap_days: OverlapDays | None = None
    deliver: Deliver | None = None


# How many are opened at once: others who add something in the directory wait as long.
MOST_AT_ONCE = 50


class RotationWanted(Sent):
    """The credential that another is put beside; `id`: the rotation's, chosen by the caller."""

    client: Annotated[str, Field(max_length=80)]
    credential: UUID
    id: UUID


class NewRotations(Sent):
    """Each is followed by one like it. `days`, `overlap_days`: of all; the policy's when left out.

    `deliver`: "owners" has the link to each sent to the client's owners; left out, what is secret is in the answer.
    """

    rotations: Annotated[list[RotationWanted], Field(min_length=1, max_length=MOST_AT_ONCE)]
    days: Days | None = None
    overlap_days: OverlapDays | None = None
    deliver: Literal["owners"] | None = None


class Extension(Sent):
    """`days` from now until the overlap ends."""

    days: Days


class Closing(Sent):
    """`forced`: withdraw the old credential though it is not quiet; whatever uses it stops."""

    forced: StrictBool = False
    reason: MaybeSaid = ""


class Abandonment(Sent):
    reason: MaybeSaid = ""


class User(Answered):
    """Who got tokens with the old credential since the rotation was opened."""

    address: str
    user_agent: str
    last_at: Moment
    times: int


class Rotation(Answered):
    """`quiet_at`: when the old one is quiet if nothing uses it any more; null before the new one was seen."""

    id: UUID
    client_id: str
    client_name: str
    state: RotationState
    old: Credential
    new: Credential
    opened_at: Moment
    opened_by: str
    overlap_ends_at: Moment
    quiet_at: Moment | None
    used_since: Moment | None
    users: list[User]
    ended_at: Moment | None
    ended_by: str
    forced: StrictBool


class Due(Answered):
    """A credential that expires soon; `overlap_ends_at`: of its rotation, if it were opened now."""

    client_id: str
    client_name: str
    credential: Credential
    overlap_ends_at: Moment


class OpenedRotation(Answered):
    """With what is shown once: an issued secret or a made key pair; neither where the client made its own.

    `delivered_to`: the owners who get a link to it instead, by name.
    """

    rotation: Rotation
    issued: IssuedSecret | None
    made: MadeCertificate | None
    delivered_to: list[str] = Field(default_factory=list)


class NotOpened(Answered):
    """A rotation that was not opened, by the id that was chosen for it, and why: a problem as a refusal is."""

    id: UUID
    client_id: str
    credential_id: UUID
    problem: Problem


class OpenedRotations(Answered):
    """Each that was asked for is in one of the two, in the order of asking."""

    opened: list[OpenedRotation]
    failed: list[NotOpened]


class Week(Answered):
    """Rotations due in the week that begins on this day."""

    begins: date
    secrets: int
    keys: int
    due: int
