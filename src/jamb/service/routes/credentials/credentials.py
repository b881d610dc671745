"""Credentials, connection sheets and token requests of a client."""

from __future__ import annotations

from typing import Annotated
from uuid import UUID

from fastapi import Query, Request, Response

from jamb.actions.base.act import Act
from jamb.actions.clients import attempts
from jamb.actions.credentials import adding, credentials
from jamb.actions.credentials.sheets import connection_sheets
from jamb.actions.credentials.shown_once import issued_answer, made_answer
from jamb.service.callers import may
from jamb.service.http.paging import DEFAULT_LIMIT, Cursor, Limit, onward, unpack_number
from jamb.service.http.routing import api_router
from jamb.service.routes.credentials.additions import addition_of
from jamb.wire.base.shapes import Page
from jamb.wire.credentials import credentials as wire
from jamb.wire.credentials.rotations import User

router = api_router("/api/v1/directories/{directory}/clients/{client}", tags=["credentials"])


@router.post("/secrets", status_code=201)
def issue_secret(
    client: str,
    sent: wire.NewSecret,
    act: Annotated[Act, may("credentials.issue")],
) -> wire.IssuedSecret:
    """Issue a client secret. This answer is the only one that ever has it."""
    added = adding.add_credential(act, client, adding.SecretIssued(sent.days), sent.label, instead_of=sent.instead_of)
    answer = issued_answer(added)
    assert answer is not None
    return answer


@router.post("/certificates", status_code=201)
def make_certificate(
    client: str,
    sent: wire.NewCertificate,
    act: Annotated[Act, may("credentials.make")],
) -> wire.MadeCertificate:
    """Make a key pair and a certificate. This answer is the only one that ever has the private key."""
    wanted = adding.CertificateMade(sent.key_type, sent.days)
    answer = made_answer(adding.add_credential(act, client, wanted, sent.label, instead_of=sent.instead_of))
    assert answer is not None
    return answer


@router.post("/credentials", status_code=201)
def add_credential(
    client: str,
    sent: wire.NewCredential,
    act: Annotated[Act, may("credentials.add")],
) -> wire.Credential:
    """Let the client prove itself without a shared secret: by a certificate, keys of its own, or an outside issuer."""
    added = adding.add_credential(act, client, addition_of(sent), sent.label)
    return added.credential


@router.post("/credentials/{credential}/state")
def set_credential_state(
    client: str,
    credential: UUID,
    sent: wire.CredentialStateChange,
    act: Annotated[Act, may("credentials.set-state")],
) -> wire.Credential:
    """Disable a credential, or enable it again."""
    return credentials.set_credential_state(act, client, credential, sent.enabled, sent.reason)


@router.get("/credentials/{credential}/users")
def list_credential_users(act: Annotated[Act, may("credentials.users")], client: str, credential: UUID) -> list[User]:
    """From where and with which programs the credential was used in the last thirty days, the latest first."""
    found = credentials.list_users(act, client, credential)
    return [User.model_validate(one) for one in found]


@router.get("/sheet")
def read_sheet(act: Annotated[Act, may("sheet.read")], client: str) -> list[wire.Sheet]:
    """The connection sheet of each resource, without a secret."""
    return list(connection_sheets(act, client))


@router.post("/credentials/{credential}/withdrawal")
def withdraw(
    client: str,
    credential: UUID,
    sent: wire.Withdrawal,
    act: Annotated[Act, may("credentials.withdraw")],
) -> wire.Credential:
    """End a credential now, for good."""
    return credentials.withdraw(act, client, credential, sent.reason)


@router.get("/attempts")
def list_attempts(
    act: Annotated[Act, may("attempts.list")],
    client: str,
    request: Request,
    response: Response,
    failed: Annotated[bool, Query(description="Only those that failed")] = False,
    cursor: Cursor = None,
    limit: Limit = DEFAULT_LIMIT,
) -> Page[wire.Attempt]:
    """Token requests of the client, newest first."""
    found = attempts.list_attempts(act, client, failed_only=failed, before=unpack_number(cursor), limit=limit)
    following = onward(request, response, found.next)
    return Page[wire.Attempt](items=list(found.items), next=following)
