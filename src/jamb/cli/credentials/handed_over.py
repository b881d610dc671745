"""What was handed over, kept in a folder: connection sheet, or certificate and key, each for its owner alone."""

from __future__ import annotations

from base64 import b64decode
from pathlib import Path

from jamb.cli.credentials.private_files import write_private
from jamb.client import BadInput
from jamb.wire.credentials.handovers import HandedOver


def free_folder(folder: Path) -> Path:
    """Return the folder, made if need be. Raises `BadInput` when it holds such files already."""
    folder.mkdir(parents=True, exist_ok=True)
    for name in ("client.env", "client.json", "client.pem"):
        if (folder / name).exists():
            raise BadInput.field("--save", str(folder / name), "a folder without this file", "Nothing was opened.")
    return folder


def keep_handed_over(handed: HandedOver, folder: Path) -> str:
    """Write what was handed over; return the names of the files."""
    files: dict[str, bytes] = {}
    if handed.issued is not None:
        for form, name in (("env", "client.env"), ("json", "client.json")):
            files[name] = ("\n".join(one.forms[form] for one in handed.issued.sheets) + "\n").encode()
    if handed.made is not None:
        files["client.pem"] = handed.made.certificate.encode()
        files["client.key"] = handed.made.private_key.encode()
        files["client.p12"] = b64decode(handed.made.pkcs12)
        files["client.passphrase"] = handed.made.passphrase.encode() + b"\n"
    for name, content in files.items():
        write_private(folder / name, content)
    return ", ".join(files)
