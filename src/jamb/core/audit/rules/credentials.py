"""Credentials that stop something, or that should have stopped."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime, timedelta

from jamb.core.audit.breaches import life_breach
from jamb.core.audit.excess import granted_weight
from jamb.core.audit.findings import Family, Finding, RemedyKind, Rule, Severity, day, exact, finding, on
from jamb.core.audit.picture import ClientPicture, CredentialPicture
from jamb.core.credentials.kinds import CredentialKind
from jamb.core.credentials.term import CredentialState
from jamb.core.directory.policy import DirectoryPolicy

RECENT = timedelta(days=7)
DORMANT = timedelta(days=90)
# More than a rotation needs.
MOST_AT_ONCE = 2


def _in_state(
    client: ClientPicture, policy: DirectoryPolicy, now: datetime, wanted: CredentialState
) -> Iterator[CredentialPicture]:
    for credential in client.credentials:
        if credential.state(now, policy.warn_before) is wanted:
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
        remedy = (
            "Another live credential outlasts it: make sure the job uses that one, then withdraw this one."
            if replaced
            else "Rotate it: add another, configure it, and withdraw this one when it is no longer used."
        )
        yield finding(
            "credential-expiring",
            client,
            credential.id,
            Severity.LOW if replaced else Severity.HIGH if in_use else Severity.MEDIUM,
            f"{credential.name} expires on {day(credential.expires_at)}",
            {
                "expires": exact(credential.expires_at),
                "last used": on(credential.last_used_at),
                "policy": f"warned from {policy.warn_days} days before expiry",
            },
            remedy,
            RemedyKind.WITHDRAW_CREDENTIAL if replaced else RemedyKind.ROTATE,
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
            f"{credential.name} expired on {day(credential.expires_at)}",
            {
                "expired": exact(credential.expires_at),
                "last used": on(credential.last_used_at),
                "others that work": str(len(others)),
            },
            "Withdraw it: another credential is in place."
            if others
            else "If the client is still needed add another credential; either way withdraw this one.",
            RemedyKind.WITHDRAW_CREDENTIAL,
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
                    "expires": exact(credential.expires_at) if not endless else "no expiry",
                    "policy": f"{setting} {getattr(policy, setting)}",
                },
                "Rotate it: the one that follows lives as long as the policy allows.",
                RemedyKind.ROTATE,
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
            RemedyKind.WITHDRAW_CREDENTIAL,
            oldest.id,
        )


def _never_used(client: ClientPicture, policy: DirectoryPolicy, now: datetime) -> Iterator[Finding]:
    rotated = {one.new_id for one in client.rotations}
    for credential in _working(client, now):
        old_enough = now - credential.works_since >= policy.observation
        if credential.last_used_at is None and old_enough and credential.id not in rotated:
            yield finding(
                "credential-never-used",
                client,
                credential.id,
                Severity.LOW,
                f"{credential.name}, issued on {day(credential.issued_at)}, was never used",
                {"issued": exact(credential.issued_at), "policy": f"judged after {policy.observation_days} days"},
                "Ask the owner whether it reached its job; withdraw it if nobody knows.",
                RemedyKind.WITHDRAW_CREDENTIAL,
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
                RemedyKind.WITHDRAW_CREDENTIAL,
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
                {"key": credential.weak, "expires": exact(credential.expires_at)},
                "Let a stronger key follow it: EC P-256, or RSA of 3072 bits.",
                RemedyKind.ROTATE,
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
            RemedyKind.ADD_KEY,
        )


def _overdue(client: ClientPicture, _policy: DirectoryPolicy, now: datetime) -> Iterator[Finding]:
    works = {one.id for one in _working(client, now)}
    for rotation in client.rotations:
        # One whose old credential works no more is done, whoever closes it.
        if rotation.overlap_ends_at <= now and rotation.old_id in works:
            yield finding(
                "rotation-overdue",
                client,
                rotation.id,
                Severity.HIGH,
                f"The rotation of {rotation.old_hint} should have been done by {day(rotation.overlap_ends_at)}",
                {"overlap ended": exact(rotation.overlap_ends_at), "new": rotation.new_hint, "old": rotation.old_hint},
                "See who uses the old one, move them, and close the rotation; or let it overlap longer.",
                RemedyKind.CLOSE_ROTATION,
                rotation.id,
            )


def _still_tried(client: ClientPicture, _policy: DirectoryPolicy, now: datetime) -> Iterator[Finding]:
    works = {one.hint for one in _working(client, now)}
    for tried in client.dead_tries:
        # One that was disabled when it was tried, and is enabled again, has not ended.
        if now - tried.last_at <= RECENT and tried.hint not in works:
            yield finding(
                "expired-credential-tried",
                client,
                tried.hint,
                Severity.MEDIUM if works else Severity.HIGH,
                f"{tried.hint} has expired or was withdrawn, and is still tried",
                {"last tried": on(tried.last_at), "from": tried.address or "unknown"},
                "Find the job at that address, and configure a credential that works.",
            )


def _public_secret(client: ClientPicture, _policy: DirectoryPolicy, now: datetime) -> Iterator[Finding]:
    secrets = [one for one in _working(client, now) if one.kind is CredentialKind.SECRET]
    if not client.kind.confidential and secrets:
        yield finding(
            "secret-on-public-client",
            client,
            "",
            Severity.HIGH,
            "Has a secret, and cannot keep one",
            {one.hint: f"expires {exact(one.expires_at)}" for one in secrets},
            "Withdraw it: a public client proves nothing by what everybody who has it can read.",
            RemedyKind.WITHDRAW_CREDENTIAL,
            secrets[0].id,
        )


RULES = (
    Rule(
        "credential-expiring",
        Family.CREDENTIALS,
        "Credential about to expire",
        why="When a credential expires, whatever uses it stops, usually at night and without anyone looking.",
        when=(
            "A credential works and expires within `warn_days`. It is outlasted where another credential of the client "
            "works, does not expire within `warn_days`, and expires later. It was used lately where its last use is at "
            f"most {RECENT.days} days ago."
        ),
        how_bad="Low where it is outlasted; else high where it was used lately, and medium where not.",
        reference="RFC 6749 section 2.3; NIST SP 800-57 part 1 section 5.3 (cryptoperiods)",
        find=_expiring,
        found=(
            "expires soon and is in use",
            "expires soon, not used lately",
            "expires soon, but another outlasts it",
            "ends on the last day of notice",
        ),
        passed=("ends a day after the notice",),
    ),
    Rule(
        "credential-expired",
        Family.CREDENTIALS,
        "Expired credential, not withdrawn",
        why="An expired credential left about hides whether its client is still needed, and invites reuse in a copy.",
        when="A credential has expired and is not withdrawn, whether it is disabled or not.",
        how_bad="Low where a credential of the client works; medium otherwise.",
        reference="NIST SP 800-57 part 1 section 8.3 (post-operational phase)",
        find=_expired,
        found=(
            "ended",
            "ended, another lives",
        ),
        passed=("ended and withdrawn",),
    ),
    Rule(
        "credential-lives-too-long",
        Family.CREDENTIALS,
        "Credential that lives longer than the policy allows",
        why="The longer a credential lives, the more copies of it there are, and the longer a stolen one serves.",
        when=(
            "A credential works, and the time from its issue to its expiry is longer than `secret_longest_days` (a "
            "secret) or `key_longest_days` (any other kind), by however little; or it has no expiry."
        ),
        how_bad="High without an expiry; medium otherwise.",
        reference="NIST SP 800-57 part 1 section 5.3 (cryptoperiods)",
        find=_too_long,
        found=(
            "endless",
            "longer than the policy",
            "longer than the policy by half a day",
        ),
        passed=("as long as the policy allows",),
    ),
    Rule(
        "several-credentials",
        Family.CREDENTIALS,
        "Several credentials at once",
        why="Each further credential is one more thing to lose, and makes it harder to say which job uses which.",
        when=f"More than {MOST_AT_ONCE} credentials of the client work.",
        how_bad="Medium where more than `credentials_at_once` work; low otherwise: a rotation needs two.",
        reference="ISO/IEC 27002:2022 control 5.17 (authentication information)",
        find=_several,
        found=(
            "three at once",
            "six at once",
        ),
        passed=("two at once",),
    ),
    Rule(
        "credential-never-used",
        Family.CREDENTIALS,
        "Credential never used",
        why="What nothing uses never reached its job, or lies where nobody looks.",
        when=(
            "A credential works, has worked for at least `observation_days` (counted from its issue or, where that is "
            "later, from its start), and was never used. The new credential of an open rotation is passed over."
        ),
        how_bad="Always low.",
        reference="ISO/IEC 27002:2022 control 5.17 (authentication information)",
        find=_never_used,
        found=("never used, and old enough to say",),
        passed=(
            "never used, the new one of a rotation",
            "never used, and begun lately",
        ),
    ),
    Rule(
        "credential-dormant",
        Family.CREDENTIALS,
        "Credential not used for long",
        why="A credential that works and that nobody misses is found by whoever looks for one.",
        when=f"A credential works, and its last use is at least {DORMANT.days} days ago.",
        how_bad="Always medium.",
        reference="ISO/IEC 27002:2022 control 5.18 (access rights)",
        find=_dormant,
        found=("not used for ninety days",),
        passed=("not used for eighty-nine",),
    ),
    Rule(
        "weak-key",
        Family.CREDENTIALS,
        "Key that ages",
        why="Keys of 112 bits of strength are to be left behind by the end of 2030.",
        when=(
            "A credential works, and a key of it is RSA of less than 3072 bits (or one of 112 bits of strength by "
            "another kind)."
        ),
        how_bad="Always low, as long as it is only ageing.",
        reference="NIST SP 800-131A rev. 2 section 3",
        find=_weak_key,
        found=("a key that ages",),
        passed=("a key that aged and is disabled",),
    ),
    Rule(
        "key-due",
        Family.CREDENTIALS,
        "Secret where a key is due",
        why="A shared secret passes through many hands; the policy wants keys for clients that may do this much.",
        when=(
            "A secret of the client works, and all that the client may do as itself, wherever it counts, weighs more "
            "than `secret_heaviest_weight`."
        ),
        how_bad="Always high.",
        reference="RFC 9700 section 2.5 (client authentication)",
        find=_key_due,
        found=("a secret and too much weight",),
        passed=("a key and too much weight",),
    ),
    Rule(
        "rotation-overdue",
        Family.CREDENTIALS,
        "Rotation overdue",
        why="Both credentials work, so whoever has the old one still gets in, and nobody looks any more.",
        when="A rotation is open, its overlap has ended, and its old credential still works.",
        how_bad="Always high.",
        reference="NIST SP 800-57 part 1 section 8.2.3 (key change)",
        find=_overdue,
        found=("overdue",),
        passed=(
            "in overlap",
            "overdue, and the old one has ended by itself",
        ),
    ),
    Rule(
        "expired-credential-tried",
        Family.CREDENTIALS,
        "Expired or withdrawn credential still tried",
        why="Either a job is failing unseen, or somebody tries what they found.",
        when=(
            f"A credential that had expired, was withdrawn or disabled was tried at most {RECENT.days} days ago, and "
            "it does not work now either."
        ),
        how_bad="Medium where a credential of the client works; high otherwise.",
        reference="NIST SP 800-92 section 2.1 (authentication failures)",
        find=_still_tried,
        found=(
            "an expired one is tried, nothing works",
            "an expired one is tried, another works",
        ),
        passed=(
            "an expired one was tried long ago",
            "one was tried while it was disabled, and is enabled again",
        ),
    ),
    Rule(
        "secret-on-public-client",
        Family.CREDENTIALS,
        "Secret on a public client",
        why="It lies on every device that the client is installed on, and is no secret.",
        when="The client is public (browser, native or device), and a secret of it works.",
        how_bad="Always high.",
        reference="RFC 6749 section 2.1; RFC 8252 section 8.5",
        find=_public_secret,
        found=("a secret that everybody has",),
        passed=("keys of a public client",),
    ),
)
