"""Files that only their owner reads: written whole, or not at all, and never over another."""

from __future__ import annotations

import os
from pathlib import Path


def write_private(file: Path, content: bytes) -> None:
    """Write a new file of mode 600, on the disk before this returns. Raises `FileExistsError` where there is one."""
    beside = file.with_name(f".{file.name}.part")
    beside.unlink(missing_ok=True)
    with os.fdopen(os.open(beside, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "wb") as opened:
        opened.write(content)
        opened.flush()
        os.fsync(opened.fileno())
    try:
        # Unlike a renaming, a link never takes the place of what is there.
        os.link(beside, file)
    finally:
        beside.unlink()
