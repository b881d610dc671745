"""The client library: Jamb's API from Python.

with Jamb("https://jamb.example", "port", ClientCredentials(client_id, secret)) as jamb:
    made = jamb.clients.register("Night run", "Sends invoices", owners=["maren@port.example"])
"""

from importlib import import_module
from typing import TYPE_CHECKING, Any

from jamb.core.errors import (
    BadInput,
    Conflict,
    DoneBefore,
    Forbidden,
    JambError,
    NotFound,
    NotSignedIn,
    Outdated,
    ServiceUnreachable,
    TooManyTries,
    WorldFailure,
)

if TYPE_CHECKING:
    from jamb.client.base.auth import AccessToken, ClientCredentials, DeviceSignIn, KeyPair
    from jamb.client.base.dpop import ProofKey
    from jamb.client.base.kept_tokens import TokenFile, TokenKeyring, token_store
    from jamb.client.base.own_files import KeyFile, SecretFile
    from jamb.client.base.people import sign_in_by_browser, sign_in_by_device
    from jamb.client.base.person_tokens import PersonTokens
    from jamb.client.base.private_key import PrivateKey
    from jamb.client.base.sealed import unseal
    from jamb.client.credentials.handovers import HandoverLink
    from jamb.client.credentials.keeping_fresh import KeptFresh, keep_fresh
    from jamb.client.credentials.setting_up import Wanted, set_up
    from jamb.client.jamb import Jamb

__all__ = [
    "AccessToken",
    "BadInput",
    "ClientCredentials",
    "Conflict",
    "DeviceSignIn",
    "DoneBefore",
    "Forbidden",
    "HandoverLink",
    "Jamb",
    "JambError",
    "KeptFresh",
    "KeyFile",
    "KeyPair",
    "NotFound",
    "NotSignedIn",
    "Outdated",
    "PersonTokens",
    "PrivateKey",
    "ProofKey",
    "SecretFile",
    "ServiceUnreachable",
    "TokenFile",
    "TokenKeyring",
    "TooManyTries",
    "Wanted",
    "WorldFailure",
    "keep_fresh",
    "set_up",
    "sign_in_by_browser",
    "sign_in_by_device",
    "token_store",
    "unseal",
]

# Imported when they are first asked for: keys and sealing cost a program that needs neither a tenth of a second.
_MODULES = {
    "AccessToken": "base.auth",
    "ClientCredentials": "base.auth",
    "DeviceSignIn": "base.auth",
    "HandoverLink": "credentials.handovers",
    "Jamb": "jamb",
    "KeptFresh": "credentials.keeping_fresh",
    "KeyFile": "base.own_files",
    "KeyPair": "base.auth",
    "PersonTokens": "base.person_tokens",
    "PrivateKey": "base.private_key",
    "ProofKey": "base.dpop",
    "SecretFile": "base.own_files",
    "TokenFile": "base.kept_tokens",
    "TokenKeyring": "base.kept_tokens",
    "Wanted": "credentials.setting_up",
    "keep_fresh": "credentials.keeping_fresh",
    "set_up": "credentials.setting_up",
    "sign_in_by_browser": "base.people",
    "sign_in_by_device": "base.people",
    "token_store": "base.kept_tokens",
    "unseal": "base.sealed",
}


def __getattr__(name: str) -> Any:
    if name not in _MODULES:
        raise AttributeError(f"jamb.client has no {name}")
    return getattr(import_module(f"jamb.client.{_MODULES[name]}"), name)
