"""Handovers."""

from __future__ import annotations

from typing import Annotated, Any, Literal
from uuid import UUID

from pydantic import Field, SecretStr

from jamb.core.credentials.handover import DEFAULT_HOURS, MOST_HOURS, NOTE_LONGEST, Deliver, HandoverState
from jamb.wire.base.shapes import WHOLE, Answered, Moment, RecipientKeyText, Sent, SeveralLines
from jamb.wire.base.text import LinkKey, Passphrase
from jamb.wire.credentials.credentials import Credential, Days, IssuedSecret, Label, MadeCertificate
from jamb.wire.credentials.rotations import CertificateWanted, SecretWanted


class HandoverWish(Sent):
    """`hours` until the link runs out; `passphrase`: asked for beside the link; `note`: for whoever opens it."""

    hours: Annotated[int, Field(strict=True, ge=1, le=MOST_HOURS), WHOLE] = DEFAULT_HOURS
    passphrase: Passphrase = SecretStr("")
    note: Annotated[str, Field(max_length=NOTE_LONGEST), SeveralLines()] = ""


class CredentialToHandOver(Sent):
    """A new credential that nobody sees before whoever receives it.

    `credential`: what is made; `days` until it ends; `instead_of`: a lost one, withdrawn in the same step.
    """

    credential: Annotated[SecretWanted | CertificateWanted, Field(discriminator="kind")] = Field(
        default_factory=lambda: SecretWanted(kind="secret")
    )
    days: Days | None = None
    label: Label = ""
    instead_of: UUID | None = None


class NewHandover(HandoverWish, CredentialToHandOver):
    """A new credential, and the link that shows it once. `deliver`: to you, or by mail to the owners alone."""

    deliver: Deliver = Deliver.LINK


class NewSealing(CredentialToHandOver):
    """A new credential, sealed to the key of one of the client's recipients."""

    recipient: UUID


class Handover(Answered):
    """`late_tries`: tries after it was opened, ran out or was taken back: each means that another has the link, too."""

    id: UUID
    credential_id: UUID
    hint: str
    state: HandoverState
    has_passphrase: bool
    note: str
    made_at: Moment
    made_by: str
    expires_at: Moment
    opened_at: Moment | None
    opened_from: str
    opened_with: str
    withdrawn_at: Moment | None
    wrong_tries: int
    late_tries: int
    late_at: Moment | None
    late_from: str


class MadeHandover(Answered):
    """`link` is in this answer only. Whoever has it sees the credential, once.

    It is empty where the link was delivered to the owners: `delivered_to` has their names.
    """

    handover: Handover
    link: str
    credential: Credential
    replaced: Credential | None = None
    delivered_to: list[str] = Field(default_factory=list)


class HandoverKey(Sent):
    """`key`: what is behind the # of the link. It travels in a body, never in an address that is logged."""

    key: LinkKey


class HandoverOpening(HandoverKey):
    passphrase: Annotated[SecretStr, Field(max_length=200)] = SecretStr("")


class WaitingHandover(Answered):
    """What whoever has the link is told before they open it."""

    client_name: str
    directory_name: str
    made_by: str
    made_at: Moment
    expires_at: Moment
    has_passphrase: bool
    note: str
    state: HandoverState
    opened_at: Moment | None
    opened_from: str


class HandedOver(Answered):
    """What the link carries: a secret with its connection sheets, or a key pair. It is shown this once."""

    client_name: str
    directory_name: str
    issued: IssuedSecret | None
    made: MadeCertificate | None


class RecipientKey(Sent):
    """Where credentials for oneself are sealed to; an empty text takes the key away."""

    key: RecipientKeyText


class OwnRecipientKey(Answered):
    """The registered public key as a JWK with its id (RFC 7638); None: there is none."""

    key: dict[str, Any] | None


class Recipient(Answered):
    """Who can be sealed to: an owner of the client, or a webhook, that has registered a public key."""

    kind: Literal["person", "webhook"]
    id: UUID
    name: str
    key_id: str


class SealedCredential(Answered):
    """`sealed`: a JWE in its compact form (RFC 7516), for the recipient alone; empty: it goes to the webhook by itself.

    Its content is what a handover link shows.
    """

    credential: Credential
    recipient: Recipient
    sealed: str
    replaced: Credential | None = None
