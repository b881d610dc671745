"""Warm commands: everything is imported once, then each command runs in a forked process of its own.

What it saves is the seconds of processor time in which Python starts and imports. The command is the same, with
arguments, environment, folder and streams of its own; it is killed, stopped and waited for as any process is. Started
as `python -m tests.warm <command>`.
"""

from __future__ import annotations

import gc
import json
import os
import signal
import subprocess
import sys
import time
import traceback
from collections.abc import Mapping, Sequence
from contextlib import suppress
from functools import cache
from importlib import import_module
from pathlib import Path
from pkgutil import walk_packages
from tempfile import TemporaryDirectory
from typing import Any

ROOT = Path(__file__).parent.parent

# The module that runs a command, and what it imports later by itself: modules, or packages with all that is in them.
COMMANDS = {
    "jamb": ("jamb.cli.main", ["jamb.cli"]),
    "jamb-service": ("jamb.service.operate", ["jamb.service.app", "jamb.service.work", "jamb.service.http", "uvicorn"]),
}
WHOLE = ("jamb.",)
# What rich looks at when it is imported.
ENVIRONMENT = {"COLUMNS": "160"}
_LOOK_SECONDS = 0.01


class Process:
    """A running command, as `subprocess.Popen` would show it."""

    def __init__(self, pid: int, words: Sequence[str], left: Path) -> None:
        self.pid = pid
        self.returncode: int | None = None
        self._words, self._left = words, left

    def poll(self) -> int | None:
        if self.returncode is None and self._left.exists():
            self.returncode = int(self._left.read_text())
            self._left.unlink()
        return self.returncode

    def wait(self, timeout: float | None = None) -> int:
        ends = time.monotonic() + timeout if timeout is not None else None
        while self.poll() is None:
            if ends is not None and time.monotonic() > ends:
                assert timeout is not None
                raise subprocess.TimeoutExpired(self._words, timeout)
            time.sleep(_LOOK_SECONDS)
        assert self.returncode is not None
        return self.returncode

    def send_signal(self, number: int) -> None:
        if self.poll() is None:
            os.kill(self.pid, number)

    def terminate(self) -> None:
        self.send_signal(signal.SIGTERM)

    def kill(self) -> None:
        self.send_signal(signal.SIGKILL)


class Warm:
    """One command, imported once. It ends when the run does, with the pipe that it reads."""

    def __init__(self, command: str) -> None:
        self._files = TemporaryDirectory(prefix="jamb-test-")
        self._count = 0
        self._process = subprocess.Popen(
            [sys.executable, "-m", "tests.warm", command],
            cwd=ROOT,
            text=True,
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            env={"PATH": os.environ["PATH"], "HOME": "/", **ENVIRONMENT},
        )

    def start(
        self,
        words: Sequence[str],
        environment: Mapping[str, str],
        *,
        folder: Path = ROOT,
        stdin: Path | None = None,
        stdout: Path | None = None,
        stderr: Path | None = None,
    ) -> Process:
        """Start the command; what it writes is added to the files, or gone without one."""
        self._count += 1
        left = Path(self._files.name) / f"left-{self._count}"
        streams = {"stdin": stdin, "stdout": stdout, "stderr": stderr}
        sent = {"words": [*words], "env": {**environment}, "cwd": str(folder), "left": str(left)}
        assert self._process.stdin is not None
        assert self._process.stdout is not None
        self._process.stdin.write(
            json.dumps(sent | {name: str(path or os.devnull) for name, path in streams.items()}) + "\n"
        )
        self._process.stdin.flush()
        return Process(int(self._process.stdout.readline()), words, left)

    def run(
        self,
        words: Sequence[str],
        environment: Mapping[str, str],
        *,
        folder: Path = ROOT,
        stdin: str | None = None,
        timeout: float = 120,
    ) -> subprocess.CompletedProcess[str]:
        """Run the command to its end."""
        files = {name: Path(self._files.name) / f"{name}-{self._count}" for name in ("stdin", "stdout", "stderr")}
        for name, path in files.items():
            path.write_text((stdin or "") if name == "stdin" else "")
        code = self.start(words, environment, folder=folder, **files).wait(timeout)
        said = files["stdout"].read_text(), files["stderr"].read_text()
        for path in files.values():
            path.unlink()
        return subprocess.CompletedProcess([*words], code, *said)


@cache
def warm(command: str) -> Warm:
    """Return the one of this run."""
    return Warm(command)


def serve(command: str) -> None:
    """Import, then fork for each line that comes; answer with the number of the process."""
    module, packages = COMMANDS[command]
    runs = import_module(module).run
    for name in packages:
        found = import_module(name)
        inside = walk_packages(getattr(found, "__path__", []), f"{name}.") if name.startswith(WHOLE) else ()
        for inner in inside:
            import_module(inner.name)
    gc.freeze()
    for line in sys.stdin:
        wanted = json.loads(line)
        reading, writing = os.pipe()
        if os.fork() == 0:
            _watch(runs, wanted, writing)
        os.close(writing)
        with os.fdopen(reading) as pipe:
            print(pipe.read(), flush=True)
        # Those that have ended; where none is left, there is nobody to ask about.
        with suppress(ChildProcessError):
            while os.waitpid(-1, os.WNOHANG)[0] > 0:
                pass


def _watch(runs: Any, wanted: dict[str, Any], writing: int) -> None:
    """Fork the command, say its number, and keep how it ended: never returns."""
    child = os.fork()
    if child == 0:
        os.close(writing)
        _run(runs, wanted)
    os.write(writing, str(child).encode())
    os.close(writing)
    _, status = os.waitpid(child, 0)
    left = Path(wanted["left"])
    left.with_suffix(".part").write_text(str(os.waitstatus_to_exitcode(status)))
    left.with_suffix(".part").rename(left)
    os._exit(0)


def _run(runs: Any, wanted: dict[str, Any]) -> None:
    """Run one command and leave: never returns."""
    for name, number, flags in (
        ("stdin", 0, os.O_RDONLY),
        ("stdout", 1, os.O_WRONLY | os.O_CREAT | os.O_APPEND),
        ("stderr", 2, os.O_WRONLY | os.O_CREAT | os.O_APPEND),
    ):
        opened = os.open(wanted[name], flags, 0o600)
        os.dup2(opened, number)
        os.close(opened)
    sys.stdin = open(0, closefd=False)  # noqa: SIM115 - what the parent had read ahead is not this command's
    os.chdir(wanted["cwd"])
    os.environ.clear()
    os.environ.update(wanted["env"])
    sys.argv = [str(ROOT / ".venv" / "bin" / sys.argv[1]), *wanted["words"]]
    code = 0
    try:
        runs()
    except SystemExit as left:
        code = left.code if isinstance(left.code, int) else 0 if left.code is None else 1
        if isinstance(left.code, str):
            print(left.code, file=sys.stderr)
    except BaseException:  # noqa: BLE001 - what Python itself would do with it
        traceback.print_exc()
        code = 1
    finally:
        sys.stdout.flush()
        sys.stderr.flush()
        os._exit(code)


if __name__ == "__main__":
    serve(sys.argv[1])
