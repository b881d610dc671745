"""What a browser and Jamb say to each other about passkeys (W3C Web Authentication Level 3), by the library `webauthn`.

It is imported with the first passkey of a process: few processes meet one in their first seconds.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from functools import wraps
from typing import Any, ParamSpec, TypeVar

P = ParamSpec("P")
T = TypeVar("T")


class UnfitCredential(ValueError):
    """What a browser sent is no credential that answers what it was asked."""


@dataclass(frozen=True, slots=True)
class Expected:
    """What must have been asked: the challenge, the host that passkeys are for, and the origins of our own pages."""

    challenge: bytes
    host: str
    origins: frozenset[str]


@dataclass(frozen=True, slots=True)
class Owner:
    """Whose passkey is made: a stable id, and what a browser shows of them."""

    id: bytes
    login: str
    name: str


@dataclass(frozen=True, slots=True)
class Made:
    credential_id: bytes
    public_key: bytes
    uses: int


def _judging(judge: Callable[P, T]) -> Callable[P, T]:
    """Raise `UnfitCredential` for all that the library may say of what a stranger sent."""

    @wraps(judge)
    def judged(*args: P.args, **kwargs: P.kwargs) -> T:
        from webauthn.helpers.exceptions import WebAuthnException

        try:
            return judge(*args, **kwargs)
        except (WebAuthnException, ValueError, KeyError, TypeError, AttributeError, RecursionError) as error:
            raise UnfitCredential(str(error)) from error

    return judged


def to_make(
    host: str, site: str, owner: Owner, challenge: bytes, milliseconds: int, *, held: Iterable[bytes]
) -> dict[str, Any]:
    """Return what a browser needs to make a passkey (section 5.4). `held`: the ids of those that the person has."""
    import webauthn
    from webauthn.helpers import structs

    options = webauthn.generate_registration_options(
        rp_id=host,
        rp_name=site,
        user_id=owner.id,
        user_name=owner.login,
        user_display_name=owner.name,
        challenge=challenge,
        timeout=milliseconds,
        authenticator_selection=structs.AuthenticatorSelectionCriteria(
            resident_key=structs.ResidentKeyRequirement.REQUIRED,
            user_verification=structs.UserVerificationRequirement.REQUIRED,
        ),
        exclude_credentials=[structs.PublicKeyCredentialDescriptor(id=held_id) for held_id in held],
    )
    made: dict[str, Any] = json.loads(webauthn.options_to_json(options))
    return made


def to_show(host: str, challenge: bytes, milliseconds: int) -> dict[str, Any]:
    """Return what a browser needs to show a passkey (section 5.5): whichever of its person's it finds."""
    import webauthn
    from webauthn.helpers import structs

    options = webauthn.generate_authentication_options(
        rp_id=host,
        challenge=challenge,
        timeout=milliseconds,
        user_verification=structs.UserVerificationRequirement.REQUIRED,
    )
    asked: dict[str, Any] = json.loads(webauthn.options_to_json(options))
    return asked


@_judging
def made(credential: Mapping[str, Any], expected: Expected) -> Made:
    """Return the passkey that a browser made (section 7.1). Raises `UnfitCredential`."""
    import webauthn

    found = webauthn.verify_registration_response(
        credential=dict(credential),
        expected_challenge=expected.challenge,
        expected_rp_id=expected.host,
        expected_origin=sorted(expected.origins),
        require_user_verification=True,
    )
    return Made(found.credential_id, found.credential_public_key, found.sign_count)


@_judging
def uses_after(credential: Mapping[str, Any], expected: Expected, public_key: bytes, uses: int) -> int:
    """Return the count of uses that comes with a proof (section 7.2). Raises `UnfitCredential`.

    Args:
        uses: the count that was seen last; one that does not rise tells of a copy (section 6.1.1).
    """
    import webauthn

    found = webauthn.verify_authentication_response(
        credential=dict(credential),
        expected_challenge=expected.challenge,
        expected_rp_id=expected.host,
        expected_origin=sorted(expected.origins),
        credential_public_key=public_key,
        credential_current_sign_count=uses,
        require_user_verification=True,
    )
    return int(found.new_sign_count)


@_judging
def challenge_in(credential: Mapping[str, Any]) -> bytes:
    """Return the challenge that a browser says it answers. Raises `UnfitCredential`."""
    from webauthn.helpers import base64url_to_bytes, parse_client_data_json

    return parse_client_data_json(base64url_to_bytes(credential["response"]["clientDataJSON"])).challenge


@_judging
def id_in(credential: Mapping[str, Any]) -> bytes:
    """Return which passkey a browser shows. Raises `UnfitCredential`."""
    from webauthn.helpers import base64url_to_bytes

    return base64url_to_bytes(str(credential.get("rawId", "")))
