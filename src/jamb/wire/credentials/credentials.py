"""Credentials, connection sheets and token requests."""

from __future__ import annotations

import binascii
from base64 import b64decode
from typing import Annotated, Any, Literal
from uuid import UUID

from pydantic import Field, StrictBool

from jamb.core.clients.attempts import Outcome
from jamb.core.credentials.kinds import CredentialKind, KeyType
from jamb.core.credentials.sheets.as_itself import ConnectionSheet, render
from jamb.core.credentials.sheets.people import PeopleSheet, render_for_people
from jamb.core.credentials.term import CredentialState
from jamb.core.errors import BadInput
from jamb.core.permissions import AccessKind
from jamb.wire.base.shapes import WHOLE, Answered, Moment, Sent, SeveralLines
from jamb.wire.base.text import HttpsAddress, MaybeHttpsAddress, MaybeSaid

Days = Annotated[int, Field(strict=True, ge=1, le=3650), WHOLE]
Label = Annotated[str, Field(max_length=80)]


class NewSecret(Sent):
    """`days` until it ends; the policy's default when left out. There is no value for "never".

    `instead_of`: a lost credential, withdrawn in the same step.
    """

    days: Days | None = None
    label: Label = ""
    instead_of: UUID | None = None


class NewCertificate(Sent):
    """A key pair and a certificate signed by itself, made here. `instead_of`: as for a secret."""

    key_type: KeyType = KeyType.P256
    days: Days | None = None
    label: Label = ""
    instead_of: UUID | None = None


def _bytes_of(field: str, text: str) -> bytes:
    if "-----BEGIN" in text:
        return text.encode()
    try:
        return b64decode("".join(text.split()), validate=True)
    except (binascii.Error, ValueError) as error:
        raise BadInput.field(field, "neither PEM nor base64", "PEM, or DER in base64") from error


class CertificateSent(Sent):
    """`certificate`: PEM, or DER or a PKCS#7 bundle in base64. It ends when the certificate says."""

    kind: Literal["certificate"]
    certificate: Annotated[str, Field(max_length=140_000), SeveralLines()]
    label: Label = ""

    def upload(self) -> bytes:
        """Return the bytes of the certificate. Raises `BadInput` for what is neither PEM nor base64."""
        return _bytes_of("certificate", self.certificate)


class KeysSent(Sent):
    """`keys`: a JWK Set (RFC 7517); or `keys_uri`: the https address at which the client publishes one."""

    kind: Literal["keys"]
    keys: dict[str, Any] | None = None
    keys_uri: MaybeHttpsAddress = ""
    days: Days | None = None
    label: Label = ""


class IssuerSent(Sent):
    """Assertions of this issuer for this subject stand for the client (RFC 7523 section 2.1).

    `keys` or `keys_uri`: the issuer's public keys; neither: they are found by its metadata.
    """

    kind: Literal["issuer"]
    issuer: HttpsAddress
    subject: Annotated[str, Field(min_length=1, max_length=500)]
    keys: dict[str, Any] | None = None
    keys_uri: MaybeHttpsAddress = ""
    days: Days | None = None
    label: Label = ""


class RequestSent(Sent):
    """`request`: a request for a certificate (PKCS#10, RFC 2986), in PEM, or DER in base64.

    The directory's own authority issues it for `days`; names and uses in the request are passed over.
    """

    kind: Literal["certificate-request"]
    request: Annotated[str, Field(max_length=30_000), SeveralLines()]
    days: Days | None = None
    label: Label = ""

    def upload(self) -> bytes:
        """Return the bytes of the request. Raises `BadInput` for what is neither PEM nor base64."""
        return _bytes_of("request", self.request)


NewCredential = Annotated[CertificateSent | RequestSent | KeysSent | IssuerSent, Field(discriminator="kind")]


class CredentialStateChange(Sent):
    """Whether it proves the client; a disabled one works again when it is enabled."""

    enabled: StrictBool
    reason: MaybeSaid = ""


class Withdrawal(Sent):
    reason: MaybeSaid = ""


class CertificateFacts(Answered):
    """`thumbprint` and `sha1` in hexadecimal digits; `key` says what the key is; `pem` is the certificate itself."""

    subject: str
    issued_by: str
    serial: str
    starts_at: Moment
    ends_at: Moment
    thumbprint: str
    sha1: str
    key: str
    pem: str


class Credential(Answered):
    """`serves`: the methods by which it proves the client at the token endpoint."""

    id: UUID
    kind: CredentialKind
    hint: str
    label: str
    state: CredentialState
    issued_at: Moment
    issued_by: str
    starts_at: Moment | None
    expires_at: Moment | None
    withdrawn_at: Moment | None
    first_used_at: Moment | None
    last_used_at: Moment | None
    serves: list[str]
    key_ids: list[str]
    certificate: CertificateFacts | None
    issuer: str
    subject: str
    keys_uri: str

    @property
    def works(self) -> bool:
        return self.state in {CredentialState.LIVE, CredentialState.EXPIRING}


class Sheet(Answered):
    """All values an integrator must type, and the same as ready text in each form. `secret` is there once only.

    `kind`: whether the client acts as itself, or for people; then by which addresses. `authorization_url`: a whole
    request to try in a browser; empty where the client uses none.
    """

    kind: AccessKind
    issuer: str
    token_endpoint: str
    authorization_endpoint: str
    authorization_url: str
    redirect_uris: list[str]
    client_id: str
    resource: str
    scopes: list[str]
    secret: str | None
    secret_expires_at: Moment | None
    forms: dict[str, str]


class IssuedSecret(Answered):
    """`replaced`: the credential that was withdrawn in the same step."""

    credential: Credential
    secret: str
    sheets: list[Sheet]
    replaced: Credential | None = None


class MadeCertificate(Answered):
    """The key pair is here once only. `pkcs12` (base64) and `private_key` (PEM) open with the passphrase."""

    credential: Credential
    certificate: str
    pkcs12: str
    private_key: str
    passphrase: str


class Attempt(Answered):
    """One token request: how it ended and, if badly, what to do. `times`: equal refusals within a minute are one."""

    id: int
    at: Moment
    outcome: Outcome
    detail: str
    hint: str
    resource: str
    address: str
    user_agent: str
    times: int = 1
    remedy: str


def sheet_of(sheet: ConnectionSheet) -> Sheet:
    return Sheet(
        kind=AccessKind.DELEGATED if sheet.exchanges else AccessKind.APPLICATION,
        issuer=sheet.issuer,
        token_endpoint=sheet.token_endpoint,
        authorization_endpoint="",
        authorization_url="",
        redirect_uris=[],
        client_id=sheet.client_id,
        resource=sheet.resource,
        scopes=list(sheet.scopes),
        secret=sheet.secret,
        secret_expires_at=sheet.secret_expires_at,
        forms=render(sheet),
    )


def sheet_for_people(sheet: PeopleSheet) -> Sheet:
    return Sheet(
        kind=AccessKind.DELEGATED,
        issuer=sheet.issuer,
        token_endpoint=sheet.token_endpoint,
        authorization_endpoint=sheet.authorization_endpoint if sheet.by_code else "",
        authorization_url=sheet.authorization_url if sheet.by_code else "",
        redirect_uris=list(sheet.redirect_uris),
        client_id=sheet.client_id,
        resource=sheet.resource,
        scopes=list(sheet.scopes),
        secret=sheet.secret,
        secret_expires_at=None,
        forms=render_for_people(sheet),
    )
