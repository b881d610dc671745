"""What rotations leave in a folder: a file for each new credential, and a list by which a stopped run goes on."""

from __future__ import annotations

import json
import os
import re
from base64 import b64decode
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path
from uuid import UUID, uuid4

from jamb.cli.credentials.private_files import write_private
from jamb.wire.credentials.rotations import Due, OpenedRotation

_LIST = ".rotations"


@dataclass(frozen=True, slots=True)
class Entry:
    """One rotation of a folder: written down before it is opened, under the id that it will have."""

    rotation_id: UUID
    client_id: str
    client_name: str
    credential_id: UUID
    hint: str

    def target(self, folder: Path) -> Path:
        return target_of(folder, self.client_name, self.hint)


def entries_of(folder: Path) -> list[Entry]:
    """Return what a folder lists; a line that a stop cut short is passed over, for nothing was opened for it."""
    found = []
    file = folder / _LIST
    for line in file.read_text().splitlines() if file.exists() else ():
        try:
            kept = json.loads(line)
            found.append(
                Entry(UUID(kept["rotation"]), kept["client"], kept["name"], UUID(kept["credential"]), kept["hint"])
            )
        except (ValueError, KeyError):
            continue
    return found


def entry_for(due: Due) -> Entry:
    return Entry(uuid4(), due.client_id, due.client_name, due.credential.id, due.credential.hint)


def list_entries(folder: Path, made: Iterable[Entry]) -> None:
    """Write entries to the folder's list, on the disk before this returns."""
    lines = [
        {
            "rotation": str(one.rotation_id),
            "client": one.client_id,
            "name": one.client_name,
            "credential": str(one.credential_id),
            "hint": one.hint,
        }
        for one in made
    ]
    folder.mkdir(parents=True, exist_ok=True)
    with os.fdopen(os.open(folder / _LIST, os.O_WRONLY | os.O_CREAT | os.O_APPEND, 0o600), "a") as file:
        file.write("".join(json.dumps(line) + "\n" for line in lines))
        file.flush()
        os.fsync(file.fileno())


def target_of(folder: Path, client: str, hint: str) -> Path:
    """Return the file of a rotation's new credential: named by its client and the credential that it follows."""
    stem = re.sub(r"[^a-z0-9]+", "-", f"{client} {hint}".lower()).strip("-")
    return folder / f"{stem}.after"


def keep(target: Path, opened: OpenedRotation) -> bool:
    """Write what is shown once to files of their owner alone, the passphrase of a key apart; tell whether there was."""
    issued, made = opened.issued, opened.made
    if issued is not None:
        sheets = "\n\n".join(sheet.forms["env"] for sheet in issued.sheets)
        write_private(target, sheets.encode() + b"\n")
    if made is not None:
        write_private(target.with_suffix(".passphrase"), made.passphrase.encode() + b"\n")
        write_private(target.with_suffix(".p12"), b64decode(made.pkcs12))
        write_private(target, f"{made.certificate}{made.private_key}".encode())
    return issued is not None or made is not None
