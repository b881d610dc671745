"""An authorization request as it was sent, read to the letter.

RFC 6749 section 4.1.1 and 4.1.2.1, RFC 7636 section 4.3, RFC 8707 section 2, OpenID Connect Core sections 3.1.2 and
5.5, OAuth 2.0 Form Post Response Mode.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping, Sequence
from dataclasses import asdict, dataclass, fields
from typing import Any

from jamb.core.access.standing import Holding
from jamb.core.authorization import pkce
from jamb.core.authorization.acr import CLASSES
from jamb.core.authorization.claims import NOTHING, ClaimsAsked, read_claims
from jamb.core.authorization.details import Details, holdings, location, privileges, read_details
from jamb.core.authorization.refused import ChallengeMissing, RequestRefused

OPENID, PROFILE, EMAIL, GROUPS, OFFLINE = "openid", "profile", "email", "groups", "offline_access"
# What a client may ask of a person that is no permission of a resource (OpenID Connect Core sections 5.4 and 11).
ABOUT_PEOPLE = frozenset({OPENID, PROFILE, EMAIL, GROUPS, OFFLINE})
QUERY, FORM_POST = MODES = ("query", "form_post")
PROMPTS = frozenset({"none", "login", "consent", "select_account"})
LONGEST_STATE = 2_000
LONGEST_SCOPE = 2_000
MOST_SCOPES = 60
_SCOPE = re.compile(r"[\x21\x23-\x5B\x5D-\x7E]+(?: [\x21\x23-\x5B\x5D-\x7E]+)*\Z")


@dataclass(frozen=True, slots=True)
class Wanted:
    """What a client asks of a person.

    Attributes:
        scope: as it was sent; empty: whatever is consented to at the resource.
        max_age: how many seconds ago at most the person signed in; None: whenever.
        mode: how the answer is sent: in the address, or as a form.
        key: thumbprint of the key to which the code is bound (RFC 9449 section 10); empty: to none.
        details: where alone it needs which permissions (`details`); none: no such bound.
        acr_values: how surely the person is to have signed in, what is preferred first (`acr`); none: however.
    """

    redirect_uri: str
    state: str
    scope: tuple[str, ...]
    resource: str
    nonce: str
    challenge: str
    prompt: tuple[str, ...] = ()
    max_age: int | None = None
    login_hint: str = ""
    mode: str = QUERY
    claims: ClaimsAsked = NOTHING
    key: str = ""
    acr_values: tuple[str, ...] = ()
    details: Details = ()

    @property
    def permissions(self) -> tuple[str, ...]:
        """What is asked for at the resource, be it there alone where a detail says."""
        return tuple(dict.fromkeys((*self.everywhere, *privileges(self.details))))

    @property
    def everywhere(self) -> tuple[str, ...]:
        """The permissions that are asked for by scope: wherever they are given."""
        return tuple(one for one in self.scope if one not in ABOUT_PEOPLE)

    def wished(self, names: Collection[str]) -> list[Holding]:
        """Return what is asked for of these permissions, with where."""
        asked = holdings(self.details, self.everywhere)
        return [one for one in asked if one.permission in names]

    @property
    def about_people(self) -> tuple[str, ...]:
        return tuple(one for one in self.scope if one in ABOUT_PEOPLE)

    @property
    def shown_about(self) -> tuple[str, ...]:
        """What is learned of the person, by scope or by single claims, as their page names it."""
        asked = {*self.about_people, *self.claims.scopes}
        return tuple(one for one in (PROFILE, EMAIL, GROUPS) if one in asked)

    def kept(self) -> dict[str, Any]:
        return asdict(self)

    @classmethod
    def of(cls, kept: Mapping[str, Any]) -> Wanted:
        claims = ClaimsAsked.of(kept["claims"]) if "claims" in kept else NOTHING
        several = {name: tuple(kept.get(name, ())) for name in ("scope", "prompt", "acr_values", "details")}
        # A process of a later version may have kept more.
        known = {name: kept[name] for name in (field.name for field in fields(cls)) if name in kept}
        return cls(**{**known, **several, "claims": claims})


def read_request(sent: Mapping[str, str], resources: Sequence[str], redirect_uri: str) -> Wanted:
    """Return what is wanted, from parameters each of which was sent once and is text.

    Raises:
        RequestRefused: something is missing, or is not offered here.
    """
    for name, error in _NOT_OFFERED.items():
        if sent.get(name):
            raise RequestRefused(error, f"The parameter {name} is not supported here.")
    if sent.get("response_type") != "code":
        missing = "is missing" if not sent.get("response_type") else "must be code"
        error = "invalid_request" if not sent.get("response_type") else "unsupported_response_type"
        raise RequestRefused(error, f"The parameter response_type {missing}.")
    if sent.get("response_mode", "") not in {"", *MODES}:
        raise RequestRefused("invalid_request", f"The parameter response_mode must be {' or '.join(MODES)}.")
    if len(resources) > 1:
        raise RequestRefused("invalid_target", "Name one resource: a token is for one.")
    if len(sent.get("state", "")) > LONGEST_STATE or len(sent.get("nonce", "")) > LONGEST_STATE:
        raise RequestRefused("invalid_request", f"state and nonce are of at most {LONGEST_STATE} characters.")
    scope = _scope(sent.get("scope", ""))
    details = read_details(sent.get("authorization_details", ""))
    if sent.get("dpop_jkt") and not pkce.is_challenge(sent["dpop_jkt"]):
        raise RequestRefused("invalid_request", "The dpop_jkt is no SHA-256 in base64url of 43 characters.")
    return Wanted(
        redirect_uri,
        sent.get("state", ""),
        scope,
        _resource(resources, details),
        sent.get("nonce", ""),
        _challenge(sent),
        _prompt(sent.get("prompt", "")),
        _max_age(sent.get("max_age", "")),
        sent.get("login_hint", "")[:200],
        mode_of(sent),
        read_claims(sent.get("claims", "")) if OPENID in scope else NOTHING,
        sent.get("dpop_jkt", ""),
        # Of others none could be met; what is asked is no demand (OpenID Connect Core section 3.1.2.1).
        tuple(dict.fromkeys(name for name in sent.get("acr_values", "").split() if name in CLASSES)),
        details,
    )


def mode_of(sent: Mapping[str, str]) -> str:
    """Return how the answer to a request is sent, be it an error: by what is offered of it."""
    return sent["response_mode"] if sent.get("response_mode") in MODES else QUERY


def read_device_request(sent: Mapping[str, str], resources: Sequence[str]) -> Wanted:
    """Return what a device wants (RFC 8628 section 3.1): nobody is sent back to it, and its code is its own.

    Raises:
        RequestRefused: more than one resource, or a scope that is none.
    """
    if len(resources) > 1:
        raise RequestRefused("invalid_target", "Name one resource: a token is for one.")
    details = read_details(sent.get("authorization_details", ""))
    scope = _scope(sent.get("scope", ""))
    return Wanted("", "", scope, _resource(resources, details), "", "", details=details)


def _resource(resources: Sequence[str], details: Details) -> str:
    """Return the resource that is named, as such or as the location of details. Raises `RequestRefused`."""
    named = location(details)
    if resources and named not in {"", resources[0]}:
        raise RequestRefused("invalid_target", "The parameter resource and the details name different resources.")
    return resources[0] if resources else named


_NOT_OFFERED = {
    # By then they were read, and what is in them is here (`service.oauth.people.told`).
    "request": "request_not_supported",
    "request_uri": "request_uri_not_supported",
    "registration": "registration_not_supported",
}


def _challenge(sent: Mapping[str, str]) -> str:
    challenge = sent.get("code_challenge", "")
    if not challenge:
        raise ChallengeMissing("invalid_request", "The parameter code_challenge is missing: every client uses PKCE.")
    if sent.get("code_challenge_method") != pkce.METHOD:
        raise RequestRefused("invalid_request", "The parameter code_challenge_method must be S256.")
    if not pkce.is_challenge(challenge):
        raise RequestRefused("invalid_request", "The code_challenge is no SHA-256 in base64url of 43 characters.")
    return challenge


def _scope(text: str) -> tuple[str, ...]:
    if not text:
        return ()
    names = tuple(dict.fromkeys(text.split(" ")))
    if len(text) > LONGEST_SCOPE or len(names) > MOST_SCOPES or not _SCOPE.match(text):
        raise RequestRefused("invalid_scope", f"The scope must be at most {MOST_SCOPES} names, with one space between.")
    return names


def _prompt(text: str) -> tuple[str, ...]:
    names = tuple(dict.fromkeys(text.split()))
    unknown = [one for one in names if one not in PROMPTS]
    if unknown:
        raise RequestRefused("invalid_request", f"The prompt must be one of {', '.join(sorted(PROMPTS))}.")
    if "none" in names and len(names) > 1:
        raise RequestRefused("invalid_request", "The prompt none stands alone.")
    return names


def _max_age(text: str) -> int | None:
    if not text:
        return None
    if not text.isascii() or not text.isdigit() or len(text) > 9:
        raise RequestRefused("invalid_request", "The parameter max_age must be a number of seconds.")
    return int(text)
