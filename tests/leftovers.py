"""After a whole run: no secret, passphrase or token is left in a full dump of the database or in any log."""

from __future__ import annotations

import re
import subprocess

from jamb.core.credentials.leaks import leaks_in
from jamb.core.credentials.secrets import hint_of
from jamb.demo.cluster import server_programs
from tests.world import World

LOGS = ("service.log", "second.log", "stand-ins.log", "postgres.log")
# A signed token; the passphrase of a key pair made here; and those that tests choose for handover links.
_TOKEN = re.compile(rb"eyJ[A-Za-z0-9_-]{10,}\.eyJ[A-Za-z0-9_-]{10,}\.[A-Za-z0-9_-]{20,}")
_PASSPHRASE = re.compile(rb"(?<![\w-])[a-z0-9]{5}(?:-[a-z0-9]{5}){3}(?![\w-])")
_CHOSEN = (b"correct horse", b"a quiet harbour", b"lighthouse keeper")
_LINK = re.compile(rb"/handover/[0-9a-f-]{36}#[A-Za-z0-9_-]{40,}")


def dump_of(world: World) -> bytes:
    """Return the whole database as text."""
    return subprocess.run(
        [server_programs() / "pg_dump", "--dbname", world.cluster.url], capture_output=True, check=True
    ).stdout


def leftovers(world: World) -> list[str]:
    """Return what was found, shortened, with where."""
    places = {"the database": dump_of(world)}
    places |= {name: (world.home / name).read_bytes() for name in LOGS if (world.home / name).exists()}
    found = []
    for where, content in places.items():
        found += [f"a secret {hint_of(one.secret)} in {where}" for one in leaks_in(content)]
        for what, pattern in (("a token", _TOKEN), ("a passphrase", _PASSPHRASE), ("an open link", _LINK)):
            found += [f"{what} {one[0][:12]!r}… in {where}" for one in pattern.finditer(content)]
        found += [f"{chosen!r} in {where}" for chosen in _CHOSEN if chosen in content]
    return found
