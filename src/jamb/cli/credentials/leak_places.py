"""Where leaks are looked for: files, what a commit would add, and every version of every file in a git history."""

from __future__ import annotations

import os
import subprocess
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import IO

from jamb.client import BadInput
from jamb.core.credentials.leaks import LEAK_LENGTH, leaks_in

CHUNK = 4_000_000
# What git keeps of its own is packed: its history is read through git.
_NOT_ENTERED = frozenset({".git"})


@dataclass(frozen=True, slots=True)
class Place:
    """A secret and where it stands: `where` a path or a path in a commit, `line` from 1."""

    where: str
    line: int
    secret: str


def in_paths(paths: Sequence[Path], unread: list[str]) -> Iterator[Place]:
    """Yield the secrets in files, those of folders below too. Links are not followed; `unread` takes what fails."""
    for path in paths:
        for file in _files(path):
            try:
                with file.open("rb") as opened:
                    yield from in_stream(opened, str(file))
            except OSError as error:
                unread.append(f"{file}: {error.strerror}")


def in_stream(opened: IO[bytes], where: str, size: int | None = None) -> Iterator[Place]:
    """Yield the secrets in a stream of any length, or in its next `size` bytes."""
    kept, line = b"", 1
    while True:
        part = opened.read(CHUNK if size is None else min(CHUNK, size))
        size = None if size is None else size - len(part)
        data = kept + part
        # The last bytes are looked at again with what follows: a secret may lie across the cut.
        ends = max(len(data) - LEAK_LENGTH, 0) if part else len(data)
        for leak in leaks_in(data):
            if leak.offset < ends:
                yield Place(where, line + data.count(b"\n", 0, leak.offset), leak.secret)
        if not part:
            return
        line += data.count(b"\n", 0, ends)
        kept = data[ends:]


def in_history(folder: Path) -> Iterator[Place]:
    """Yield the secrets in every version of every file that any branch or tag leads to."""
    names: dict[str, str] = {}
    for row in _git(folder, "rev-list", "--all", "--objects").splitlines():
        identity, _, name = row.partition(" ")
        if name:
            names.setdefault(identity, name)
    yield from _in_objects(folder, names, lambda identity, name: f"{name} in {_commit(folder, identity)}")


def in_stage(folder: Path) -> Iterator[Place]:
    """Yield the secrets in the files that the next commit would add or change, as they would be committed."""
    changed = _git(folder, "diff", "--cached", "--name-only", "--diff-filter=d", "-z").split("\0")
    top = Path(_git(folder, "rev-parse", "--show-toplevel").strip())
    names = {f":{name}": name for name in changed if name}
    yield from _in_objects(top, names, lambda _, name: name)


def hook_file(folder: Path) -> Path:
    """Return where git looks for what runs before a commit."""
    return folder / _git(folder, "rev-parse", "--git-path", "hooks/pre-commit").strip()


def _in_objects(folder: Path, names: dict[str, str], said: Callable[[str, str], str]) -> Iterator[Place]:
    """Read many objects by one process, which is asked for one after the other."""
    command = ["git", "-C", str(folder), "cat-file", "--batch"]
    with subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE) as reading:
        assert reading.stdin is not None
        assert reading.stdout is not None
        for identity, name in names.items():
            reading.stdin.write(identity.encode() + b"\n")
            reading.stdin.flush()
            head = reading.stdout.readline().split()
            if len(head) != 3:
                continue
            size = int(head[2])
            if head[1] == b"blob":
                for place in list(in_stream(reading.stdout, name, size)):
                    yield Place(said(identity, name), place.line, place.secret)
                size = 0
            reading.stdout.read(size + 1)


def _commit(folder: Path, identity: str) -> str:
    """Return the first commit that has a version of a file, shortened."""
    found = _git(folder, "log", "--all", "--reverse", "--format=%h", f"--find-object={identity}").split()
    return f"commit {found[0]}" if found else "the history"


def _git(folder: Path, *words: str) -> str:
    try:
        done = subprocess.run(["git", "-C", str(folder), *words], capture_output=True, check=False)
    except FileNotFoundError as error:
        raise BadInput("git is not installed.", next_step="Install it, or scan the files alone.") from error
    if done.returncode != 0:
        said = done.stderr.decode(errors="replace").strip().partition("\n")[0]
        raise BadInput.field("PATH", str(folder), f"a folder in a git repository ({said})")
    return done.stdout.decode(errors="surrogateescape")


def _files(path: Path) -> Iterator[Path]:
    if not path.is_dir():
        yield path
        return
    for folder, folders, files in os.walk(path):
        folders[:] = sorted(set(folders) - _NOT_ENTERED)
        for name in sorted(files):
            file = Path(folder, name)
            if file.is_file() and not file.is_symlink():
                yield file
