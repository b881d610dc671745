"""Which clients a policy would refuse what they have: shown before a policy is saved, because saving ends nothing."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime, timedelta

from jamb.core.audit.excess import granted_weight
from jamb.core.audit.picture import ClientPicture, CredentialPicture
from jamb.core.credentials.kinds import CredentialKind
from jamb.core.credentials.term import CredentialState, longest_days
from jamb.core.directory.policy import DirectoryPolicy

_GONE = frozenset({CredentialState.WITHDRAWN, CredentialState.EXPIRED})


@dataclass(frozen=True, slots=True)
class Breach:
    """Something a client has and would not be given. `setting`: of the policy that refuses it."""

    client_id: str
    client_name: str
    setting: str
    words: str


def breaches(client: ClientPicture, policy: DirectoryPolicy, now: datetime) -> Iterator[Breach]:
    """Yield what of a client's credentials the policy would not allow to be made."""
    standing = [one for one in client.credentials if one.state(now, policy.warn_before) not in _GONE]
    for one in standing:
        setting, words = life_breach(one, policy)
        if words:
            yield Breach(client.id, client.name, setting, f"{one.hint} {words}")
    if len(standing) > policy.credentials_at_once:
        words = f"has {len(standing)} credentials that stand"
        yield Breach(client.id, client.name, "credentials_at_once", words)
    secrets = [one for one in standing if one.kind is CredentialKind.SECRET]
    if secrets:
        weight = granted_weight(client.resources)
        if weight > policy.secret_heaviest_weight:
            words = f"proves itself by a secret and may do things of weight {weight}"
            yield Breach(client.id, client.name, "secret_heaviest_weight", words)


def life_breach(one: CredentialPicture, policy: DirectoryPolicy) -> tuple[str, str]:
    """Return the setting that would refuse so long a life, and how long it is; empty words: none would."""
    setting = "secret_longest_days" if one.kind is CredentialKind.SECRET else "key_longest_days"
    if one.expires_at is None:
        return setting, "has no expiry"
    life = one.expires_at - one.issued_at
    if life <= timedelta(days=longest_days(policy, one.kind)):
        return "", ""
    hours = round((life - timedelta(days=life.days)) / timedelta(hours=1))
    return setting, f"lives for {life.days} days" + (f" and {hours} hours" if hours else "")
