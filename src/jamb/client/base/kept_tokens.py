"""Where a program keeps a person's tokens between its runs: a file for its owner alone, or the system's keyring.

Whoever renews them is alone among all processes of the machine: a refresh token counts once (RFC 9700 section 4.14.2).
"""

from __future__ import annotations

import json
import os
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import asdict, dataclass
from hashlib import sha256
from importlib import import_module
from pathlib import Path
from typing import Any, Protocol

from jamb.client.base.own_files import replace_file
from jamb.core.errors import BadInput

_OTHERS = 0o077
# A program that hangs while it renews holds up the others so long.
TURN_SECONDS = 30.0
_LOOK_SECONDS = 0.05


@dataclass(frozen=True, slots=True)
class KeptTokens:
    """Tokens, and of which sign-in they are. `expires_at`: of the access token, in seconds since 1970.

    `bound_to`: thumbprint of the key without which they count for nobody (RFC 9449); empty: of none.
    """

    issuer: str
    client_id: str
    scope: str
    resource: str
    bound_to: str
    access_token: str
    refresh_token: str
    expires_at: float

    @classmethod
    def read(cls, text: str | None) -> KeptTokens | None:
        """Return what a store holds; None where that is nothing of the kind."""
        try:
            return cls(**json.loads(text or ""))
        except (ValueError, TypeError):
            return None

    def answer(self) -> dict[str, Any]:
        """Return what the token endpoint would answer now (RFC 6749 section 5.1), with `expires_at`."""
        found = {name: getattr(self, name) for name in ("access_token", "refresh_token", "expires_at")}
        return {**found, "expires_in": self.expires_at - time.time()}

    def text(self) -> str:
        return json.dumps(asdict(self))


class TokenStore(Protocol):
    """Keeps one text, which holds secrets, until it is told to forget it: as when its person signs out."""

    def read(self) -> str | None: ...

    def write(self, text: str) -> None: ...

    def forget(self) -> None: ...

    @property
    def lock_file(self) -> Path: ...


class TokenFile:
    """A file that its owner alone can read, replaced as a whole."""

    def __init__(self, file: Path) -> None:
        self.file = file

    def __repr__(self) -> str:
        return f"TokenFile({str(self.file)!r})"

    @property
    def lock_file(self) -> Path:
        return self.file.with_name(f".{self.file.name}.lock")

    def read(self) -> str | None:
        """Return the text. Raises `BadInput` where others than its owner could read it."""
        try:
            with self.file.open() as opened:
                if os.name == "posix" and os.fstat(opened.fileno()).st_mode & _OTHERS:
                    step = f"Run chmod 600 {self.file}; if others may have read it, delete it and sign in again."
                    raise BadInput.field("kept", str(self.file), "a file that its owner alone can read", step)
                return opened.read()
        except FileNotFoundError:
            return None

    def write(self, text: str) -> None:
        self.file.parent.mkdir(mode=0o700, parents=True, exist_ok=True)
        replace_file(self.file, text.encode(), 0o600)

    def forget(self) -> None:
        self.file.unlink(missing_ok=True)


class TokenKeyring:
    """An entry of the system's keyring, by the package `keyring` (`pip install jamb[keyring]`).

    `name` tells the entries of a service apart, as a client id does.
    """

    def __init__(self, service: str, name: str) -> None:
        self._keyring: Any = import_module("keyring")
        self.service, self.name = service, name

    def __repr__(self) -> str:
        return f"TokenKeyring({self.service!r}, {self.name!r})"

    @property
    def lock_file(self) -> Path:
        cache = Path(os.environ.get("XDG_CACHE_HOME") or Path.home() / ".cache")
        return cache / "jamb" / f"{sha256(f'{self.service} {self.name}'.encode()).hexdigest()[:32]}.lock"

    def read(self) -> str | None:
        found: str | None = self._keyring.get_password(self.service, self.name)
        return found

    def write(self, text: str) -> None:
        self._keyring.set_password(self.service, self.name, text)

    def forget(self) -> None:
        with suppress(self._keyring.errors.PasswordDeleteError):
            self._keyring.delete_password(self.service, self.name)


def token_store(name: str) -> TokenStore:
    """Return the store of a program: the system's keyring where there is one, else a file in its owner's folder.

    Args:
        name: of the program, as a file name; one program keeps one sign-in under it.
    """
    try:
        keyring = import_module("keyring")
    except ImportError:
        usable = False
    else:
        # Less has one that writes a plain file, or that has nothing behind it.
        usable = keyring.get_keyring().priority >= 1
    if usable:
        return TokenKeyring("jamb", name)
    state = Path(os.environ.get("XDG_STATE_HOME") or Path.home() / ".local" / "state")
    return TokenFile(state / "jamb" / f"{name}.json")


@contextmanager
def alone(store: TokenStore) -> Iterator[None]:
    """Keep other processes from renewing what is in a store; for long they are not waited for."""
    try:
        from fcntl import LOCK_EX, LOCK_NB, flock  # noqa: PLC0415
    except ImportError:
        # No such lock on this system: programs there that share a store may have to sign in again.
        yield
        return
    file = store.lock_file
    file.parent.mkdir(mode=0o700, parents=True, exist_ok=True)
    ends = time.monotonic() + TURN_SECONDS
    with os.fdopen(os.open(file, os.O_RDWR | os.O_CREAT | os.O_NOFOLLOW, 0o600)) as opened:
        while True:
            with suppress(BlockingIOError):
                flock(opened, LOCK_EX | LOCK_NB)
                break
            if time.monotonic() > ends:
                break
            time.sleep(_LOOK_SECONDS)
        yield
