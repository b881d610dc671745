"""Credentials that are about to stop working, or have."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime, timedelta

from jamb.core.audit.findings import Finding, Rule, Severity
from jamb.core.audit.picture import ClientPicture, CredentialPicture
from jamb.core.credentials import CredentialState
from jamb.core.policy import DirectoryPolicy

_RECENT = timedelta(days=7)


def _in_state(
    client: ClientPicture, policy: DirectoryPolicy, now: datetime, wanted: CredentialState
) -> Iterator[CredentialPicture]:
    for credential in client.credentials:
        if credential.state(now, policy.notice) is wanted:
            yield credential


def _has_later(client: ClientPicture, credential: CredentialPicture, policy: DirectoryPolicy, now: datetime) -> bool:
    """Tell whether another live credential outlives this one, so that its end stops nothing."""
    return any(
        other.id != credential.id and (other.expires_at is None or other.expires_at > (credential.expires_at or now))
        for other in _in_state(client, policy, now, CredentialState.LIVE)
    )


def _expiring(client: ClientPicture, policy: DirectoryPolicy, now: datetime) -> Iterator[Finding]:
    for credential in _in_state(client, policy, now, CredentialState.EXPIRING):
        assert credential.expires_at is not None
        days = (credential.expires_at - now).days
        replaced = _has_later(client, credential, policy, now)
        in_use = credential.last_used_at is not None and now - credential.last_used_at <= _RECENT
        mend = (
            "Another live credential outlasts it: make sure the job uses that one, then withdraw this one."
            if replaced
            else "Rotate it: add another, configure it, and withdraw this one when it is no longer used."
        )
        yield Finding(
            rule="credential-expiring",
            client_id=client.id,
            client_name=client.name,
            subject=credential.id,
            severity=Severity.LOW if replaced else Severity.HIGH if in_use else Severity.MEDIUM,
            title=f"{_name(credential)} ends in {days} {'day' if days == 1 else 'days'}",
            evidence={
                "ends": credential.expires_at.isoformat(timespec="seconds"),
                "last used": _moment(credential.last_used_at),
                "policy": f"notice from {policy.notice_days} days before the end",
            },
            mend=mend,
        )


def _expired(client: ClientPicture, policy: DirectoryPolicy, now: datetime) -> Iterator[Finding]:
    for credential in _in_state(client, policy, now, CredentialState.EXPIRED):
        assert credential.expires_at is not None
        days = (now - credential.expires_at).days
        others = [*_in_state(client, policy, now, CredentialState.LIVE)]
        others += _in_state(client, policy, now, CredentialState.EXPIRING)
        yield Finding(
            rule="credential-expired",
            client_id=client.id,
            client_name=client.name,
            subject=credential.id,
            severity=Severity.LOW if others else Severity.MEDIUM,
            title=f"{_name(credential)} ended {days} {'day' if days == 1 else 'days'} ago",
            evidence={
                "ended": credential.expires_at.isoformat(timespec="seconds"),
                "last used": _moment(credential.last_used_at),
                "other live credentials": str(len(others)),
            },
            mend="Withdraw it: another credential is in place."
            if others
            else "If the client is still needed add another credential; either way withdraw this one.",
        )


def _name(credential: CredentialPicture) -> str:
    return f"{credential.kind.words.capitalize()} {credential.hint}"


def _moment(value: datetime | None) -> str:
    return "never" if value is None else value.isoformat(timespec="seconds")


RULES = (
    Rule(
        "credential-expiring",
        "Credential about to end",
        "When a credential ends, whatever uses it stops, usually at night and without anyone looking.",
        "RFC 6749 section 2.3; NIST SP 800-57 part 1 section 5.3 (cryptoperiods)",
        _expiring,
    ),
    Rule(
        "credential-expired",
        "Credential past its end",
        "A dead credential that lies about hides whether the client is dead too, and invites its reuse in a copy.",
        "NIST SP 800-57 part 1 section 8.3 (post-operational phase)",
        _expired,
    ),
)
