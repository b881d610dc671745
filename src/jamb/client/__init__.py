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
    ServiceUnreachable,
    TooManyTries,
    WorldFailure,
)

if TYPE_CHECKING:
    from jamb.client.auth import AccessToken, ClientCredentials, DeviceSignIn, KeyPair
    from jamb.client.handovers import HandoverLink
    from jamb.client.jamb import Jamb
    from jamb.client.keeping_fresh import KeptFresh, keep_fresh
    from jamb.client.own_files import KeyFile, SecretFile
    from jamb.client.private_key import PrivateKey
    from jamb.client.sealed import unseal
    from jamb.client.setting_up import Wanted, set_up

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
    "PrivateKey",
    "SecretFile",
    "ServiceUnreachable",
    "TooManyTries",
    "Wanted",
    "WorldFailure",
    "keep_fresh",
    "set_up",
    "unseal",
]

# Imported when they are first asked for: keys and sealing cost a program that needs neither a tenth of a second.
_PLACES = {
    "AccessToken": "auth",
    "ClientCredentials": "auth",
    "DeviceSignIn": "auth",
    "HandoverLink": "handovers",
    "Jamb": "jamb",
    "KeptFresh": "keeping_fresh",
    "KeyFile": "own_files",
    "KeyPair": "auth",
    "PrivateKey": "private_key",
    "SecretFile": "own_files",
    "Wanted": "setting_up",
    "keep_fresh": "keeping_fresh",
    "set_up": "setting_up",
    "unseal": "sealed",
}


def __getattr__(name: str) -> Any:
    if name not in _PLACES:
        raise AttributeError(f"jamb.client has no {name}")
    return getattr(import_module(f"jamb.client.{_PLACES[name]}"), name)
