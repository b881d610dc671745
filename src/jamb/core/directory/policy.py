"""What a directory's policy bounds. Thresholds live here and nowhere else, so rules and refusals agree."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, fields, replace
from datetime import timedelta
from enum import StrEnum
from typing import Any

from jamb.core.directory.signing_keys import SigningAlgorithm
from jamb.core.errors import BadInput, Unsuited, Violation, shorten


class Registering(StrEnum):
    """Who may register clients, beside those whose role allows it."""

    EVERYONE = "everyone"
    GROUPS = "groups"
    NOBODY = "nobody"


@dataclass(frozen=True, slots=True)
class DirectoryPolicy:
    """Bounds one directory sets for itself; each has a default a careful administrator would keep.

    Attributes:
        secret_default_days: life of a client secret when nobody says otherwise.
        secret_longest_days: longest life a client secret may be given; endless ones are always refused.
        key_default_days: life of a certificate made here, a key set or the trust in an outside issuer.
        key_longest_days: longest life of these; of uploaded certificates too.
        credentials_at_once: how many credentials of a client may stand at once.
        secret_heaviest_weight: above this weight of what a client may do as itself it gets no secret, but keys.
        overlap_days: how long both credentials of a rotation are valid.
        rotation_opens_days: how long before its end Jamb rotates a secret and hands it to the owners; 0: never.
        quiet_days: how long the old credential of a rotation must be unseen before it is withdrawn.
        self_rotation: whether a client may rotate its own secret with the secret it has; whoever stole one can, too.
        warn_days: how long before its end a credential counts as expiring.
        digest_hours: how long a person is left alone after a mail, but for what is urgent.
        attempts_days: how long records of token requests are kept.
        observation_days: how long a grant must stand before "never used" means anything.
        use_counts_days: how long a use counts: what was not done for so long counts as not used.
        dry_run_days: how long a narrower grant is tried in a dry run before it may take the place of a wider one.
        restore_days: how long a removed client can be restored.
        access_token_seconds: life of an access token.
        person_token_seconds: life of an access token of a person at the command line.
        refresh_idle_days: how long a refresh token may go unused before it expires.
        refresh_longest_days: how long after a person allowed it a client gets tokens for them at most.
        signing_key_days: how long a key signs tokens before the next one does; 0: until somebody rotates it.
        rs256_access_tokens: whether access tokens are signed by RS256 and not by ES256, for APIs that read nothing
            else; to sign one takes ten times as long.
        session_seconds: life of a console session.
        session_idle_seconds: how long a console session may go unused before it ends.
        two_people_weight: from this added weight on, whoever asked may not consent.
        two_approvers_weight: from this added weight on, two approvers must consent.
        adding_days: for how long what one person added to a client counts together against these two weights.
        request_days: how long a request for consent waits before it lapses.
        registering: who may register clients beside registrars.
        registering_groups: names of the groups that may, when `registering` says groups.
        people_may_consent: whether people consent for themselves where a permission leaves it to them.
        top_role_for_clients: whether a role that holds everything may be assigned to a client.
        inheritance: whether makers may grant a client what their own roles allow, without an approver.
        second_factor: whether whoever has a role here must sign in with a second factor.
        passkey: whether it must be a passkey.
        confirm_minutes: after how long people show once more that it is they, before they do in the console what is
            heavy (an operation of control); 0: never.
    """

    secret_default_days: int = 90
    secret_longest_days: int = 180
    key_default_days: int = 365
    key_longest_days: int = 730
    credentials_at_once: int = 5
    secret_heaviest_weight: int = 100_000
    overlap_days: int = 14
    rotation_opens_days: int = 0
    quiet_days: int = 3
    self_rotation: bool = False
    warn_days: int = 14
    digest_hours: int = 24
    attempts_days: int = 90
    observation_days: int = 14
    use_counts_days: int = 90
    dry_run_days: int = 14
    restore_days: int = 30
    access_token_seconds: int = 600
    person_token_seconds: int = 8 * 3600
    refresh_idle_days: int = 14
    refresh_longest_days: int = 90
    signing_key_days: int = 180
    rs256_access_tokens: bool = False
    session_seconds: int = 10 * 3600
    session_idle_seconds: int = 2 * 3600
    two_people_weight: int = 24
    two_approvers_weight: int = 100
    adding_days: int = 30
    request_days: int = 7
    registering: Registering = Registering.NOBODY
    registering_groups: tuple[str, ...] = ()
    people_may_consent: bool = False
    top_role_for_clients: bool = False
    inheritance: bool = False
    second_factor: bool = False
    passkey: bool = False
    confirm_minutes: int = 0

    @property
    def access_tokens_by(self) -> SigningAlgorithm:
        return SigningAlgorithm.RS256 if self.rs256_access_tokens else SigningAlgorithm.ES256

    @property
    def warn_before(self) -> timedelta:
        return timedelta(days=self.warn_days)

    @property
    def observation(self) -> timedelta:
        return timedelta(days=self.observation_days)

    @property
    def adding(self) -> timedelta:
        return timedelta(days=self.adding_days)

    @property
    def request_life(self) -> timedelta:
        return timedelta(days=self.request_days)

    @property
    def use_counts(self) -> timedelta:
        return timedelta(days=self.use_counts_days)


def meanings() -> dict[str, str]:
    """Return what each setting means, by its name, as the class says it."""
    found: dict[str, str] = {}
    last = ""
    for line in (DirectoryPolicy.__doc__ or "").splitlines():
        name, colon, text = line.strip().partition(": ")
        if colon and name in DirectoryPolicy.__slots__:
            last, found[name] = name, text
        elif last and line.startswith(" " * 12):
            found[last] += f" {line.strip()}"
    return found


# A weight that no client reaches: the setting that has it bounds nothing.
ANY_WEIGHT = 100_000

# Smallest and largest value of each number.
BOUNDS: Mapping[str, tuple[int, int]] = {
    "secret_default_days": (1, 3650),
    "secret_longest_days": (1, 3650),
    "key_default_days": (1, 3650),
    "key_longest_days": (1, 3650),
    "credentials_at_once": (2, 20),
    "signing_key_days": (0, 3650),
    "secret_heaviest_weight": (0, ANY_WEIGHT),
    "overlap_days": (1, 180),
    "rotation_opens_days": (0, 180),
    "quiet_days": (0, 90),
    "warn_days": (1, 365),
    "digest_hours": (0, 720),
    "attempts_days": (7, 3650),
    "observation_days": (1, 365),
    "use_counts_days": (1, 3650),
    "dry_run_days": (1, 180),
    "restore_days": (1, 365),
    "access_token_seconds": (60, 3600),
    "person_token_seconds": (300, 7 * 86400),
    "refresh_idle_days": (1, 365),
    "refresh_longest_days": (1, 3650),
    "session_seconds": (300, 7 * 86400),
    "session_idle_seconds": (300, 7 * 86400),
    "confirm_minutes": (0, 1440),
    "two_people_weight": (1, 100_000),
    "two_approvers_weight": (1, 100_000),
    "adding_days": (1, 365),
    "request_days": (1, 90),
}

# Settings that may not be above others.
_AT_MOST = (
    ("secret_default_days", "secret_longest_days"),
    ("key_default_days", "key_longest_days"),
    ("observation_days", "use_counts_days"),
    ("two_people_weight", "two_approvers_weight"),
    ("refresh_idle_days", "refresh_longest_days"),
)


# Settings by which the policy asks for another person's yes; smaller ones ask for it less often. The value is the sign.
_GUARDING = {"two_people_weight": -1, "two_approvers_weight": -1, "adding_days": 1}
_LOOSE = ("inheritance", "top_role_for_clients", "people_may_consent")


def loosened(before: DirectoryPolicy, after: DirectoryPolicy) -> tuple[str, ...]:
    """Return the settings by which one person could do more alone than before."""
    found = [name for name, sign in _GUARDING.items() if sign * getattr(after, name) < sign * getattr(before, name)]
    found += [name for name in _LOOSE if getattr(after, name) and not getattr(before, name)]
    # Whoever learned a password could then act alone as somebody who approves.
    found += ["second_factor"] if before.second_factor and not after.second_factor else []
    found += ["passkey"] if before.passkey and not after.passkey else []
    longer = not after.confirm_minutes or after.confirm_minutes > before.confirm_minutes
    found += ["confirm_minutes"] if before.confirm_minutes and longer else []
    return tuple(found)


def changed(policy: DirectoryPolicy, changes: Mapping[str, Any], groups: Iterable[str]) -> DirectoryPolicy:
    """Return the policy with these settings changed; `groups` are those of the directory.

    Raises:
        BadInput: a setting that does not exist or a value outside its bounds; all are named.
    """
    violations = []
    known = {one.name for one in fields(DirectoryPolicy)}
    for name, value in changes.items():
        if name not in known:
            violations.append(Violation(name, shorten(value), "one of " + ", ".join(sorted(known))))
        elif name in BOUNDS and not (type(value) is int and BOUNDS[name][0] <= value <= BOUNDS[name][1]):
            low, high = BOUNDS[name]
            violations.append(Violation(name, shorten(value), f"a whole number from {low} to {high}"))
    if violations:
        raise BadInput("This policy cannot be saved as it is.", violations=tuple(violations))
    after = replace(policy, **changes)
    for small, large in _AT_MOST:
        if getattr(after, small) > getattr(after, large):
            allowed = f"at most {getattr(after, large)}, the {large}"
            violations.append(Violation(small, str(getattr(after, small)), allowed))
    unknown = sorted(set(after.registering_groups) - set(groups))
    if unknown or (after.registering is Registering.GROUPS and not after.registering_groups):
        sent = ", ".join(unknown) or "none"
        violations.append(Violation("registering_groups", sent, "groups of this directory", "Make the group first."))
    if violations:
        raise Unsuited("This policy cannot be saved as it is.", violations=tuple(violations))
    return after
