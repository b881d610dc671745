"""What software says of itself when it registers, and what it is told (RFC 7591 section 2).

The names are those of the standard and of OpenID Connect Registration; what is not known is passed over, as section 2
demands. The kind of a client follows from how it proves itself and which grants it names.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from jamb.core.clients.clients import (
    NAME_LONGEST,
    PURPOSE_LONGEST,
    ClientKind,
    GrantType,
    Registration,
    in_use,
    registration,
)
from jamb.core.directory.signing_keys import SigningAlgorithm
from jamb.core.errors import Refusal, shorten
from jamb.core.text import line_fault

NONE, BASIC, POST, PRIVATE_KEY = "none", "client_secret_basic", "client_secret_post", "private_key_jwt"
METHODS = (BASIC, POST, PRIVATE_KEY, NONE)
METADATA, REDIRECTS = "invalid_client_metadata", "invalid_redirect_uri"
MOST_WORDS = 50
_LONGEST_TEXT = 2000


class UnfitMetadata(Exception):
    """Metadata that cannot be registered (RFC 7591 section 3.2.2): its error code, and what is wrong."""

    def __init__(self, code: str, described: str) -> None:
        super().__init__(described)
        self.code = code


@dataclass(frozen=True, slots=True)
class Metadata:
    """What was said, read.

    Attributes:
        name: empty: none was said.
        scope: names of permissions that it will need.
        resource: identifier of the resource that has them (RFC 8707); empty: whichever does.
        jwks, jwks_uri: its public keys, or where they are.
        client_id, client_secret: which it is and has, where it changes what it said (RFC 7592 section 2.2).
        as_itself: whether it will ask for tokens as itself.
        pages: its pages and addresses, by the names of `Registration`.
    """

    kind: ClientKind
    method: str
    name: str
    contact: str
    redirect_uris: tuple[str, ...]
    scope: tuple[str, ...]
    resource: str
    jwks: Mapping[str, Any] | None
    jwks_uri: str
    client_id: str
    client_secret: str
    as_itself: bool
    grant_types: tuple[GrantType, ...]
    pages: Mapping[str, Any]

    def registration(self, name: str, purpose: str, held: Registration | None = None) -> Registration:
        """Return it as a registration, tidied, with what only the directory says of the one that is held.

        Raises:
            UnfitMetadata: it is not acceptable.
        """
        kept = held.said() if held is not None else {}
        said: dict[str, Any] = {"name": name[:NAME_LONGEST], "purpose": purpose[:PURPOSE_LONGEST], "kind": self.kind}
        said |= {"redirect_uris": self.redirect_uris, "support_contact": self.contact, **self.pages}
        said["grant_types"] = self.grant_types
        try:
            return registration(**{**kept, **said})
        except Refusal as error:
            fields = [violation.field for violation in error.violations]
            code = REDIRECTS if any(one.startswith("redirect_uris") for one in fields) else METADATA
            raise UnfitMetadata(code, words_of(error)) from error


def words_of(error: Refusal) -> str:
    """Return a refusal in a sentence or two, with each field."""
    faults = "; ".join(f"{one.field} {one.sent}: allowed is {one.allowed}" for one in error.violations[:5])
    return faults or f"{error.message} {error.next_step}".strip()


def read_metadata(sent: Any) -> Metadata:
    """Return what was said. Raises `UnfitMetadata`."""
    if not isinstance(sent, dict):
        raise UnfitMetadata(METADATA, "Send a JSON object of client metadata.")
    grants, method = _grants(sent), _text(sent, "token_endpoint_auth_method") or BASIC
    if method not in METHODS:
        raise UnfitMetadata(METADATA, f"token_endpoint_auth_method must be one of {', '.join(METHODS)}.")
    _check_responses(sent, grants)
    _check_kept(sent)
    kind = _kind(grants, method, _text(sent, "application_type") or "web")
    lacking = sorted(one.value for one in grants if not kind.may(one))
    if lacking:
        raise UnfitMetadata(METADATA, f"grant_types: a {kind.value} client may not use {', '.join(lacking)}.")
    jwks, jwks_uri = sent.get("jwks"), _text(sent, "jwks_uri")
    if jwks is not None and jwks_uri:
        raise UnfitMetadata(METADATA, "jwks and jwks_uri are sent: use one of them.")
    if (method == PRIVATE_KEY) is not bool(jwks or jwks_uri):
        raise UnfitMetadata(METADATA, "private_key_jwt takes jwks or jwks_uri, and nothing else takes one.")
    scope = tuple(dict.fromkeys(_text(sent, "scope").split()))
    if len(scope) > MOST_WORDS:
        raise UnfitMetadata(METADATA, f"scope names {len(scope)} permissions; at most {MOST_WORDS} are allowed.")
    pages: dict[str, Any] = {name: _text(sent, name) for name in ("client_uri", "policy_uri", "tos_uri")}
    pages["post_logout_redirect_uris"] = _texts(sent, "post_logout_redirect_uris")
    pages["backchannel_logout_uri"] = _text(sent, "backchannel_logout_uri")
    return Metadata(
        kind=kind,
        method=method,
        name=_text(sent, "client_name"),
        contact=next(iter(_texts(sent, "contacts")), ""),
        redirect_uris=_texts(sent, "redirect_uris"),
        scope=scope,
        resource=_text(sent, "resource"),
        jwks=jwks if isinstance(jwks, dict) else None,
        jwks_uri=jwks_uri,
        client_id=_text(sent, "client_id"),
        client_secret=_text(sent, "client_secret"),
        as_itself=GrantType.CLIENT_CREDENTIALS in grants,
        # What is left out is the kind's own to use: a code, and what follows it (RFC 7591 section 3.2.1).
        grant_types=tuple(sorted(grants)) if "grant_types" in sent else (),
        pages=pages,
    )


def told(said: Registration, method: str, scope: Sequence[str]) -> dict[str, Any]:
    """Return all that is registered of a client, by the names of the standard; what says nothing is left out."""
    by_code = said.kind.uses(GrantType.AUTHORIZATION_CODE, said.grant_types)
    members = {
        "client_name": said.name,
        "redirect_uris": list(said.redirect_uris),
        "post_logout_redirect_uris": list(said.post_logout_redirect_uris),
        "backchannel_logout_uri": said.backchannel_logout_uri,
        "contacts": [said.support_contact] if said.support_contact else [],
        "client_uri": said.client_uri,
        "policy_uri": said.policy_uri,
        "tos_uri": said.tos_uri,
        "scope": " ".join(scope),
        "grant_types": in_use(said.kind, said.grant_types),
        "response_types": ["code"] if by_code else [],
        "token_endpoint_auth_method": method,
        "id_token_signed_response_alg": SigningAlgorithm.RS256.value if by_code else "",
        "application_type": "native" if said.kind in {ClientKind.NATIVE, ClientKind.DEVICE} else "web",
    }
    always = {"client_name", "grant_types", "response_types", "token_endpoint_auth_method"}
    return {name: value for name, value in members.items() if value or name in always}


def _kind(grants: frozenset[GrantType], method: str, application: str) -> ClientKind:
    if application not in {"web", "native"}:
        raise UnfitMetadata(METADATA, "application_type must be web or native.")
    by_code = GrantType.AUTHORIZATION_CODE in grants
    if method != NONE:
        return ClientKind.WEB if by_code else ClientKind.SERVICE
    if not by_code:
        return ClientKind.DEVICE
    return ClientKind.NATIVE if application == "native" else ClientKind.BROWSER


def _grants(sent: Mapping[str, Any]) -> frozenset[GrantType]:
    named = _texts(sent, "grant_types") or (GrantType.AUTHORIZATION_CODE.value,)
    unknown = sorted(set(named) - set(GrantType))
    if unknown:
        said = ", ".join(map(shorten, unknown[:5]))
        raise UnfitMetadata(METADATA, f"grant_types: {said} is not offered; offered are {', '.join(GrantType)}.")
    return frozenset(map(GrantType, named))


def _check_responses(sent: Mapping[str, Any], grants: frozenset[GrantType]) -> None:
    """RFC 7591 section 2.1: response types and grant types must agree."""
    by_code = GrantType.AUTHORIZATION_CODE in grants
    named = set(_texts(sent, "response_types")) or ({"code"} if by_code else set())
    if named != ({"code"} if by_code else set()):
        raise UnfitMetadata(METADATA, "response_types must be code with authorization_code, and nothing without it.")


def _check_kept(sent: Mapping[str, Any]) -> None:
    """Refuse what would be promised and not kept: signing and subjects of another kind than ours."""
    allowed = {"id_token_signed_response_alg": SigningAlgorithm.RS256, "subject_type": "public"}
    for name, only in allowed.items():
        if _text(sent, name) not in {"", only}:
            raise UnfitMetadata(METADATA, f"{name} can only be {only}.")


def _text(sent: Mapping[str, Any], name: str) -> str:
    value = sent.get(name)
    if value is None:
        return ""
    if not isinstance(value, str) or len(value) > _LONGEST_TEXT or line_fault(value):
        raise UnfitMetadata(METADATA, f"{name} must be a text of one line, of at most {_LONGEST_TEXT} characters.")
    return value.strip()


def _texts(sent: Mapping[str, Any], name: str) -> tuple[str, ...]:
    value = sent.get(name)
    if value is None:
        return ()
    if not isinstance(value, list) or not all(isinstance(one, str) and not line_fault(one) for one in value):
        code = REDIRECTS if name == "redirect_uris" else METADATA
        raise UnfitMetadata(code, f"{name} must be a list of texts of one line.")
    return tuple(value)
