"""Where settings come from: the environment, files that hold one value each, and a file of settings.

For the setting `JAMB_SMTP_URL`, the first that is given counts: `JAMB_SMTP_URL`; the content of the file that
`JAMB_SMTP_URL_FILE` names; a line `JAMB_SMTP_URL=...` (or `..._FILE=...`) of the file that `JAMB_SETTINGS` names.
"""

from __future__ import annotations

import difflib
import os
from collections.abc import Iterable, Mapping
from io import StringIO
from pathlib import Path

from dotenv import dotenv_values

PREFIX, FILE = "JAMB_", "_FILE"
SETTINGS_FILE = "JAMB_SETTINGS"
MOST_BYTES = 65_536
# What the command line, the client library and the demo read; a service passes over it.
OF_OTHERS = frozenset(
    {
        "JAMB_URL",
        "JAMB_DIRECTORY",
        "JAMB_CLIENT_ID",
        "JAMB_CLIENT_SECRET_FILE",
        "JAMB_CLIENT_KEY_FILE",
        "JAMB_CLIENT_KEY_PASSPHRASE_FILE",
        "JAMB_SIGN_IN_FILE",
    }
)


def gathered(names: Iterable[str], environment: Mapping[str, str] = os.environ) -> tuple[dict[str, str], list[str]]:
    """Return what is given of the named settings (`home`, ...), and what is wrong with how it is given.

    Args:
        names: the settings there are, in lower case, without the prefix.
    """
    known = {PREFIX + name.upper(): name for name in names}
    faults: list[str] = []
    found: dict[str, str] = {}
    if path := environment.get(SETTINGS_FILE):
        _take(_lines(Path(path), faults), known, f" in {path}", found, faults)
    _take(environment, known, "", found, faults)
    return found, faults


def unknown(names: Iterable[str], environment: Mapping[str, str] = os.environ) -> list[str]:
    """Return a sentence for each variable of the environment that looks like a setting and is none."""
    known = [PREFIX + name.upper() for name in names] + [SETTINGS_FILE]
    return [
        _unknown(name, known, "")
        for name in sorted(environment)
        if name.startswith(PREFIX) and name.removesuffix(FILE) not in known and name not in OF_OTHERS
    ]


def _take(
    given: Mapping[str, str | None], known: Mapping[str, str], where: str, found: dict[str, str], faults: list[str]
) -> None:
    """Add to `found` what is given; of a value and its file in the same place the value counts."""
    for name, value in given.items():
        if name in known or name.removesuffix(FILE) not in known or not value:
            continue
        text = _content(Path(value), name + where, faults)
        if text is not None:
            found[known[name.removesuffix(FILE)]] = text
    for name, value in given.items():
        if name in known:
            found[known[name]] = value or ""
        elif where and name.removesuffix(FILE) not in known and name not in OF_OTHERS:
            faults.append(_unknown(name, known, where))


def _unknown(name: str, known: Iterable[str], where: str) -> str:
    near = difflib.get_close_matches(name, list(known), 1)
    meant = f"; is {near[0]} meant?" if near else "; `jamb-service settings` lists those there are"
    return f"{name}{where} is no setting{meant}"


def _lines(path: Path, faults: list[str]) -> Mapping[str, str | None]:
    text = _content(path, SETTINGS_FILE, faults)
    if text is None:
        return {}
    # No `${...}` of other variables: what is written is what counts.
    return dotenv_values(stream=StringIO(text), interpolate=False)


def _content(path: Path, name: str, faults: list[str]) -> str | None:
    try:
        if path.stat().st_size > MOST_BYTES:
            faults.append(f"{name}: {path} is longer than {MOST_BYTES} bytes")
            return None
        return path.read_text().strip()
    except (OSError, UnicodeDecodeError) as error:
        reason = error.strerror if isinstance(error, OSError) else "it is no text"
        faults.append(f"{name}: {path} cannot be read: {str(reason).lower()}")
        return None
