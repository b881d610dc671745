"""The client library: Jamb's API from Python.

with Jamb("https://jamb.example", "port", ClientCredentials(client_id, secret)) as jamb:
    made = jamb.clients.register("Night run", "Sends invoices", owners=["maren@port.example"])
"""

from jamb.client.auth import AccessToken, ClientCredentials, DeviceSignIn, KeyPair
from jamb.client.handovers import HandoverLink
from jamb.client.jamb import Jamb
from jamb.client.keep_fresh import KeptFresh, keep_fresh
from jamb.client.own_files import KeyFile, SecretFile
from jamb.client.private_key import PrivateKey
from jamb.client.sealed import unseal
from jamb.client.set_up import Wanted, set_up
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
