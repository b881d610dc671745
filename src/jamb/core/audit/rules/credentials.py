"""Credentials that stop something, or that should have stopped."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime, timedelta

from jamb.core.audit.breaches import life_breach
from jamb.core.audit.findings import Act, Family, Finding, Rule, Severity, day, exact, finding, on
from jamb.core.audit.picture import ClientPicture, CredentialPicture
from jamb.core.clients import ClientKind
from jamb.core.credentials import CredentialKind, CredentialState
from jamb.core.excess import granted_weight
from jamb.core.policy import DirectoryPolicy

RECENT = timedelta(days=7)
DORMANT = timedelta(days=90)
# More than a rotation needs.
MOST_AT_ONCE = 2


def _in_state(
    client: ClientPicture, policy: DirectoryPolicy, now: datetime, wanted: CredentialState
) -> Iterator[CredentialPicture]:
    for credential in client.credentials:
        if credential.state(now, policy.notice) is wanted:
            yield credential


def _working(client: ClientPicture, now: datetime) -> list[CredentialPicture]:
    return [one for one in client.credentials if one.works(now)]


def _has_later(client: ClientPicture, credential: CredentialPicture, policy: DirectoryPolicy, now: datetime) -> bool:
    """Tell whether another live credential outlives this one, so that its end stops nothing."""
    return any(
        other.id != credential.id and (other.expires_at is None or other.expires_at > (credential.expires_at or now))
        for other in _in_state(client, policy, now, CredentialState.LIVE)
    )


def _expiring(client: ClientPicture, policy: DirectoryPolicy, now: datetime) -> Iterator[Finding]:
    for credential in _in_state(client, policy, now, CredentialState.EXPIRING):
        replaced = _has_later(client, credential, policy, now)
        in_use = credential.last_used_at is not None and now - credential.last_used_at <= RECENT
        mend = (
            "Another live credential outlasts it: make sure the job uses that one, then withdraw this one."
            if replaced
            else "Rotate it: add another, configure it, and withdraw this one when it is no longer used."
        )
        yield finding(
            "credential-expiring",
            client,
            credential.id,
            Severity.LOW if replaced else Severity.HIGH if in_use else Severity.MEDIUM,
            f"{credential.name} ends on {day(credential.expires_at)}",
            {
                "ends": exact(credential.expires_at),
                "last used": on(credential.last_used_at),
                "policy": f"notice from {policy.notice_days} days before the end",
            },
            mend,
            Act.WITHDRAW_CREDENTIAL if replaced else Act.ROTATE,
            credential.id,
        )


def _expired(client: ClientPicture, policy: DirectoryPolicy, now: datetime) -> Iterator[Finding]:
    others = _working(client, now)
    for credential in _in_state(client, policy, now, CredentialState.EXPIRED):
        yield finding(
            "credential-expired",
            client,
            credential.id,
            Severity.LOW if others else Severity.MEDIUM,
            f"{credential.name} ended on {day(credential.expires_at)}",
            {
                "ended": exact(credential.expires_at),
                "last used": on(credential.last_used_at),
                "others that work": str(len(others)),
            },
            "Withdraw it: another credential is in place."
            if others
            else "If the client is still needed add another credential; either way withdraw this one.",
            Act.WITHDRAW_CREDENTIAL,
            credential.id,
        )


def _too_long(client: ClientPicture, policy: DirectoryPolicy, now: datetime) -> Iterator[Finding]:
    for credential in _working(client, now):
        setting, words = life_breach(credential, policy)
        if words:
            endless = credential.expires_at is None
            yield finding(
                "credential-lives-too-long",
                client,
                credential.id,
                Severity.HIGH if endless else Severity.MEDIUM,
                f"{credential.name} {words}",
                {
                    "issued": exact(credential.issued_at),
                    "ends": exact(credential.expires_at) if not endless else "no end",
                    "policy": f"{setting} {getattr(policy, setting)}",
                },
                "Rotate it: the one that follows lives as long as the policy allows.",
                Act.ROTATE,
                credential.id,
            )


def _several(client: ClientPicture, policy: DirectoryPolicy, now: datetime) -> Iterator[Finding]:
    working = _working(client, now)
    if len(working) > MOST_AT_ONCE:
        oldest = min(working, key=lambda one: (one.last_used_at or one.issued_at, one.id))
        yield finding(
            "several-credentials",
            client,
            "",
            Severity.MEDIUM if len(working) > policy.credentials_at_once else Severity.LOW,
            f"{len(working)} credentials work at once",
            {one.hint: f"last used {on(one.last_used_at)}" for one in working},
            f"Withdraw those that nothing uses, beginning with {oldest.hint}.",
            Act.WITHDRAW_CREDENTIAL,
            oldest.id,
        )


def _never_used(client: ClientPicture, policy: DirectoryPolicy, now: datetime) -> Iterator[Finding]:
    rotated = {one.new_hint for one in client.rotations}
    for credential in _working(client, now):
        old_enough = now - credential.issued_at >= policy.observation
        if credential.last_used_at is None and old_enough and credential.hint not in rotated:
            yield finding(
                "credential-never-used",
                client,
                credential.id,
                Severity.LOW,
                f"{credential.name}, issued on {day(credential.issued_at)}, was never used",
                {"issued": exact(credential.issued_at), "policy": f"judged after {policy.observation_days} days"},
                "Ask the owner whether it reached its job; withdraw it if nobody knows.",
                Act.WITHDRAW_CREDENTIAL,
                credential.id,
            )


def _dormant(client: ClientPicture, _policy: DirectoryPolicy, now: datetime) -> Iterator[Finding]:
    for credential in _working(client, now):
        if credential.last_used_at is not None and now - credential.last_used_at >= DORMANT:
            yield finding(
                "credential-dormant",
                client,
                credential.id,
                Severity.MEDIUM,
                f"{credential.name} was last used on {day(credential.last_used_at)}",
                {"last used": on(credential.last_used_at), "dormant after": f"{DORMANT.days} days"},
                "Disable it for a while, then withdraw it when nothing missed it.",
                Act.WITHDRAW_CREDENTIAL,
                credential.id,
            )


def _weak_key(client: ClientPicture, _policy: DirectoryPolicy, now: datetime) -> Iterator[Finding]:
    for credential in _working(client, now):
        if credential.weak:
            yield finding(
                "weak-key",
                client,
                credential.id,
                Severity.LOW,
                f"{credential.name} has a key that ages: {credential.weak}",
                {"key": credential.weak, "ends": exact(credential.expires_at)},
                "Let a stronger key follow it: EC P-256, or RSA of 3072 bits.",
                Act.ROTATE,
                credential.id,
            )


def _key_due(client: ClientPicture, policy: DirectoryPolicy, now: datetime) -> Iterator[Finding]:
    secrets = [one for one in _working(client, now) if one.kind is CredentialKind.SECRET]
    weight = granted_weight(client.resources) if secrets else 0
    if secrets and weight > policy.secret_heaviest_weight:
        yield finding(
            "key-due",
            client,
            "",
            Severity.HIGH,
            "Proves itself by a secret, and may do too much for one",
            {
                "may do": f"weight {weight}",
                "policy": f"secrets up to a weight of {policy.secret_heaviest_weight}",
                "secrets": ", ".join(one.hint for one in secrets),
            },
            "Add a certificate or keys, have the job use them, then withdraw the secrets.",
            Act.ADD_KEY,
        )


def _overdue(client: ClientPicture, _policy: DirectoryPolicy, now: datetime) -> Iterator[Finding]:
    for rotation in client.rotations:
        if rotation.overlap_ends_at <= now:
            yield finding(
                "rotation-overdue",
                client,
                rotation.id,
                Severity.HIGH,
                f"The rotation of {rotation.old_hint} should have been done by {day(rotation.overlap_ends_at)}",
                {"overlap ended": exact(rotation.overlap_ends_at), "new": rotation.new_hint, "old": rotation.old_hint},
                "See who uses the old one, move them, and close the rotation; or let it overlap longer.",
                Act.CLOSE_ROTATION,
                rotation.id,
            )


def _still_tried(client: ClientPicture, _policy: DirectoryPolicy, now: datetime) -> Iterator[Finding]:
    for tried in client.dead_tries:
        if now - tried.last_at <= RECENT:
            yield finding(
                "dead-credential-tried",
                client,
                tried.hint,
                Severity.MEDIUM if _working(client, now) else Severity.HIGH,
                f"{tried.hint} has ended and is still tried",
                {"last tried": exact(tried.last_at), "from": tried.address or "unknown"},
                "Find the job at that address, and configure a credential that works.",
            )


def _public_secret(client: ClientPicture, _policy: DirectoryPolicy, now: datetime) -> Iterator[Finding]:
    secrets = [one for one in _working(client, now) if one.kind is CredentialKind.SECRET]
    if client.kind is ClientKind.NATIVE and secrets:
        yield finding(
            "secret-on-public-client",
            client,
            "",
            Severity.HIGH,
            "Has a secret, and cannot keep one",
            {one.hint: f"ends {exact(one.expires_at)}" for one in secrets},
            "Withdraw it: a public client proves nothing by what everybody who has it can read.",
            Act.WITHDRAW_CREDENTIAL,
            secrets[0].id,
        )


RULES = (
    Rule(
        "credential-expiring", Family.CREDENTIALS, "Credential about to end",
        "When a credential ends, whatever uses it stops, usually at night and without anyone looking.",
        "High where it was used in the last week and nothing outlasts it; low where another one does.",
        "RFC 6749 section 2.3; NIST SP 800-57 part 1 section 5.3 (cryptoperiods)", _expiring,
    ),
    Rule(
        "credential-expired", Family.CREDENTIALS, "Credential past its end",
        "A dead credential that lies about hides whether the client is dead too, and invites its reuse in a copy.",
        "Medium where nothing else works; low where another one does.",
        "NIST SP 800-57 part 1 section 8.3 (post-operational phase)", _expired,
    ),
    Rule(
        "credential-lives-too-long", Family.CREDENTIALS, "Credential that lives longer than the policy allows",
        "The longer a credential lives, the more copies of it there are, and the longer a stolen one serves.",
        "High without an end; medium above the policy's longest life.",
        "NIST SP 800-57 part 1 section 5.3 (cryptoperiods)", _too_long,
    ),
    Rule(
        "several-credentials", Family.CREDENTIALS, "Several credentials at once",
        "Each further credential is one more thing to lose, and makes it harder to say which job uses which.",
        "Medium above the policy's number; low above two, which is what a rotation needs.",
        "ISO/IEC 27002:2022 control 5.17 (authentication information)", _several,
    ),
    Rule(
        "credential-never-used", Family.CREDENTIALS, "Credential never used",
        "What nothing uses never reached its job, or lies where nobody looks.",
        "Always low.", "ISO/IEC 27002:2022 control 5.17 (authentication information)", _never_used,
    ),
    Rule(
        "credential-dormant", Family.CREDENTIALS, "Credential not used for long",
        "A credential that works and that nobody misses is found by whoever looks for one.",
        "Always medium.", "ISO/IEC 27002:2022 control 5.18 (access rights)", _dormant,
    ),
    Rule(
        "weak-key", Family.CREDENTIALS, "Key that ages",
        "Keys of 112 bits of strength are to be left behind by the end of 2030.",
        "Always low, as long as it is only ageing.", "NIST SP 800-131A rev. 2 section 3", _weak_key,
    ),
    Rule(
        "key-due", Family.CREDENTIALS, "Secret where a key is due",
        "A shared secret passes through many hands; the policy wants keys for clients that may do this much.",
        "Always high.", "RFC 9700 section 2.5 (client authentication)", _key_due,
    ),
    Rule(
        "rotation-overdue", Family.CREDENTIALS, "Rotation overdue",
        "Both credentials work, so whoever has the old one still gets in, and nobody looks any more.",
        "Always high.", "NIST SP 800-57 part 1 section 8.2.3 (key change)", _overdue,
    ),
    Rule(
        "dead-credential-tried", Family.CREDENTIALS, "Ended credential still tried",
        "Either a job is failing unseen, or somebody tries what they found.",
        "High where nothing of the client works; medium where something does.",
        "NIST SP 800-92 section 2.1 (authentication failures)", _still_tried,
    ),
    Rule(
        "secret-on-public-client", Family.CREDENTIALS, "Secret on a public client",
        "It lies on every device that the client is installed on, and is no secret.",
        "Always high.", "RFC 6749 section 2.1; RFC 8252 section 8.5", _public_secret,
    ),
)  # fmt: skip
