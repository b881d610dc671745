"""Running the `jamb` command as a user does: a process with arguments, environment and streams of its own."""

from __future__ import annotations

import json
import os
import subprocess
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from tests.warm import ENVIRONMENT, warm
from tests.world import ROOT, World

JAMB = ROOT / ".venv" / "bin" / "jamb"


@dataclass(frozen=True)
class Ran:
    code: int
    out: str
    err: str

    def json(self) -> Any:
        assert self.code == 0, self.err
        return json.loads(self.out)


class Shell:
    """A shell of one user: signed in (a kept sign-in file) or a pipeline (client id and secret file).

    `cold`: each command is started from nothing, as an installed one is.
    """

    def __init__(self, world: World, folder: Path, *, cold: bool = False) -> None:
        self.world, self.folder, self.cold = world, folder, cold
        self.environment = {
            "PATH": os.environ["PATH"],
            "HOME": str(folder),
            **ENVIRONMENT,
            "JAMB_URL": world.base_url,
            "JAMB_DIRECTORY": "quillhaven",
        }

    def signed_in(self, role: str | None, directory: str = "quillhaven") -> Shell:
        """Keep a sign-in of the person with this role, as `jamb sign-in` does."""
        file = self.folder / f"sign-in-{role}-{directory}.json"
        kept = {
            "url": self.world.base_url,
            "directory": directory,
            "token": self.world.token(role, directory),
            "ends_at": 4e9,
        }
        file.write_text(json.dumps(kept))
        shell = Shell(self.world, self.folder, cold=self.cold)
        shell.environment |= {"JAMB_SIGN_IN_FILE": str(file), "JAMB_DIRECTORY": directory}
        return shell

    def pipeline(self) -> Shell:
        held = self.world.demo["automation"]
        file = self.folder / "secret"
        file.write_text(held["client_secret"] + "\n")
        shell = Shell(self.world, self.folder, cold=self.cold)
        shell.environment |= {"JAMB_CLIENT_ID": held["client_id"], "JAMB_CLIENT_SECRET_FILE": str(file)}
        return shell

    def __call__(self, *words: str, stdin: str | None = None, **environment: str) -> Ran:
        given = {**self.environment, **environment}
        if self.cold:
            done = subprocess.run(
                [str(JAMB), *words],
                env=given,
                capture_output=True,
                text=True,
                input=stdin,
                cwd=self.folder,
                timeout=60,
                check=False,
            )
        else:
            done = warm("jamb").run(words, given, folder=self.folder, stdin=stdin)
        ran = Ran(done.returncode, done.stdout, done.stderr)
        assert "Traceback" not in ran.err
        return ran
