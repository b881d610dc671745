"""Secrets that leaked: whether they live, and whose they are."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from jamb.actions.act import Act
from jamb.actions.credentials import CredentialView, credential_view
from jamb.core.credentials import fingerprint_of
from jamb.store.credentials import by_fingerprints


@dataclass(frozen=True, slots=True)
class LeakedSecret:
    """`works`: whether it proves its client still; the client and credential only where the caller may see them."""

    look_up: str
    known: bool = False
    works: bool = False
    client_id: str = ""
    client_name: str = ""
    credential: CredentialView | None = None


def look_up(act: Act, look_ups: Sequence[str]) -> list[LeakedSecret]:
    """Return what is known of each secret, by its SHA-256; in the given order.

    Whether it works is told to everyone who is let in: whoever knows the digest of 256 random bits has the secret.
    """
    key, policy = act.backend.sealer.credential_key, act.directory.policy
    wanted = {fingerprint_of(key, one): one for one in look_ups}
    with act.read() as session:
        rows = by_fingerprints(session, act.directory.id, list(wanted))
    found = {}
    for row, name in rows:
        assert row.fingerprint is not None
        view = credential_view(row, act.now, policy)
        seen = act.own is None or row.client_id in act.own
        known = LeakedSecret(wanted[row.fingerprint], known=True, works=view.works)
        if seen:
            known = LeakedSecret(known.look_up, True, view.works, row.client_id, name, view)
        found[known.look_up] = known
    return [found.get(one, LeakedSecret(one)) for one in look_ups]
