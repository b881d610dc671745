"""A warm `jamb`: everything is imported once, then each command runs in a forked process of its own.

What it saves is the second of processor time in which Python starts and imports; the command is the same, with
arguments, environment, folder and streams of its own. Started as `python -m tests.cli.warm`.
"""

from __future__ import annotations

import json
import os
import subprocess
import sys
import traceback
from collections.abc import Mapping, Sequence
from importlib import import_module
from pathlib import Path
from pkgutil import iter_modules
from tempfile import TemporaryDirectory
from typing import Any

import jamb.cli
from jamb.cli.main import run
from tests.world import ROOT

JAMB = ROOT / ".venv" / "bin" / "jamb"
# What rich looks at when it is imported.
ENVIRONMENT = {"COLUMNS": "160"}


class Warm:
    def __init__(self) -> None:
        self._streams = TemporaryDirectory(prefix="jamb-test-")
        self._process = subprocess.Popen(
            [sys.executable, "-m", "tests.cli.warm"],
            cwd=ROOT,
            text=True,
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            env={"PATH": os.environ["PATH"], "HOME": "/", **ENVIRONMENT},
        )

    def __call__(
        self, words: Sequence[str], environment: Mapping[str, str], folder: Path, stdin: str | None
    ) -> tuple[int, str, str]:
        files = {name: Path(self._streams.name) / name for name in ("stdin", "stdout", "stderr")}
        files["stdin"].write_text(stdin or "")
        sent = {"words": [*words], "env": {**environment}, "cwd": str(folder)}
        assert self._process.stdin is not None
        assert self._process.stdout is not None
        self._process.stdin.write(json.dumps(sent | {name: str(path) for name, path in files.items()}) + "\n")
        self._process.stdin.flush()
        code = int(self._process.stdout.readline())
        said = files["stdout"].read_text(), files["stderr"].read_text()
        for path in files.values():
            path.unlink()
        return code, *said


def serve() -> None:
    for module in iter_modules(jamb.cli.__path__):
        import_module(f"jamb.cli.{module.name}")
    for line in sys.stdin:
        wanted = json.loads(line)
        child = os.fork()
        if child == 0:
            _run(wanted)
        _, status = os.waitpid(child, 0)
        print(os.waitstatus_to_exitcode(status), flush=True)


def _run(wanted: dict[str, Any]) -> None:
    """Run one command and leave: never returns."""
    for name, number, flags in (
        ("stdin", 0, os.O_RDONLY),
        ("stdout", 1, os.O_WRONLY | os.O_CREAT),
        ("stderr", 2, os.O_WRONLY | os.O_CREAT),
    ):
        opened = os.open(wanted[name], flags, 0o600)
        os.dup2(opened, number)
        os.close(opened)
    sys.stdin = open(0, closefd=False)  # noqa: SIM115 - what the parent had read ahead is not this command's
    os.chdir(wanted["cwd"])
    os.environ.clear()
    os.environ.update(wanted["env"])
    sys.argv = [str(JAMB), *wanted["words"]]
    code = 0
    try:
        run()
    except SystemExit as left:
        code = left.code if isinstance(left.code, int) else 0 if left.code is None else 1
    except BaseException:  # noqa: BLE001 - what Python itself would do with it
        traceback.print_exc()
        code = 1
    finally:
        sys.stdout.flush()
        sys.stderr.flush()
        os._exit(code)


if __name__ == "__main__":
    serve()
