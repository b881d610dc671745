"""A directory and its policy."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from jamb.core.policy import Registering
from jamb.wire.base import Answered, Sent


class Policy(Answered):
    secret_default_days: int
    secret_longest_days: int
    key_default_days: int
    key_longest_days: int
    credentials_at_once: int
    secret_heaviest_weight: int
    overlap_days: int
    rotation_opens_days: int
    quiet_days: int
    self_rotation: bool
    notice_days: int
    digest_hours: int
    attempts_days: int
    observation_days: int
    use_counts_days: int
    dry_days: int
    restore_days: int
    access_token_seconds: int
    person_token_seconds: int
    session_seconds: int
    two_people_weight: int
    two_approvers_weight: int
    request_days: int
    registering: Registering
    registering_groups: list[str]
    people_may_consent: bool
    top_role_for_clients: bool
    handing_on: bool


class PolicyChange(Sent):
    """The settings to change; those left out stay."""

    secret_default_days: int | None = None
    secret_longest_days: int | None = None
    key_default_days: int | None = None
    key_longest_days: int | None = None
    credentials_at_once: int | None = None
    secret_heaviest_weight: int | None = None
    overlap_days: int | None = None
    rotation_opens_days: int | None = None
    quiet_days: int | None = None
    self_rotation: bool | None = None
    notice_days: int | None = None
    digest_hours: int | None = None
    attempts_days: int | None = None
    observation_days: int | None = None
    use_counts_days: int | None = None
    dry_days: int | None = None
    restore_days: int | None = None
    access_token_seconds: int | None = None
    person_token_seconds: int | None = None
    session_seconds: int | None = None
    two_people_weight: int | None = None
    two_approvers_weight: int | None = None
    request_days: int | None = None
    registering: Registering | None = None
    registering_groups: Annotated[tuple[str, ...], Field(max_length=100)] | None = None
    people_may_consent: bool | None = None
    top_role_for_clients: bool | None = None
    handing_on: bool | None = None


class Directory(Answered):
    slug: str
    name: str
    domain: str
    issuer: str
    token_endpoint: str
    policy: Policy


class Breach(Answered):
    """Something that a client has and would not be given. `setting`: of the policy that refuses it."""

    client_id: str
    client_name: str
    setting: str
    words: str


class PolicyPreview(Answered):
    """What a changed policy would find. `new`: not in breach today; `already`: how many are; `mended`: are no more."""

    new: list[Breach]
    already: int
    mended: int
