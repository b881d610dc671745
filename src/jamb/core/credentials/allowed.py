"""Which credentials a client may be given: by what it is, by what it may do, and by how many it has."""

from __future__ import annotations

from jamb.core.clients.clients import ClientKind
from jamb.core.credentials.kinds import CredentialKind
from jamb.core.directory.policy import DirectoryPolicy
from jamb.core.errors import Conflict, Unsuited


def refuse_credential(
    policy: DirectoryPolicy, client: str, client_kind: ClientKind, kind: CredentialKind, standing: int, weight: float
) -> None:
    """Raise unless the policy lets a client have one more credential of a kind.

    Args:
        standing: how many credentials of the client are neither withdrawn nor past their end.
        weight: of all that the client may do as itself.

    Raises:
        Conflict: a public client keeps no credential (RFC 6749 section 2.1), or the client has as many as it may.
        BadInput: a secret for a client that may do too much for one.
    """
    if not client_kind.confidential:
        raise Conflict(f"“{client}” is a public client: it cannot keep a secret or a key.")
    if standing >= policy.credentials_at_once:
        raise Conflict(
            f"“{client}” has {standing} credentials that stand, as many as this directory allows at once.",
            next_step="Withdraw one that is not used any more.",
        )
    if kind is CredentialKind.SECRET and weight > policy.secret_heaviest_weight:
        raise Unsuited.field(
            "kind",
            f"a secret for a client that may do things of weight {weight:g}",
            f"a certificate or keys above a weight of {policy.secret_heaviest_weight}",
            "Make a certificate for it instead.",
        )
