"""Secrets that leaked: whether they live, and whose they are."""

from __future__ import annotations

from collections.abc import Sequence

from jamb.actions.base.act import Act
from jamb.actions.base.views import credential_view
from jamb.core.credentials.leaks import fingerprint_of
from jamb.store.credentials.credentials import by_fingerprints
from jamb.wire.credentials.leaks import LeakedSecret


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
        known = LeakedSecret(look_up=wanted[row.fingerprint], known=True, works=view.works)
        if seen:
            known = LeakedSecret(
                look_up=known.look_up,
                known=True,
                works=view.works,
                client_id=row.client_id,
                client_name=name,
                credential=view,
            )
        found[known.look_up] = known
    return [found.get(one, LeakedSecret(look_up=one, known=False, works=False)) for one in look_ups]
