"""`python -m tests.soak MINUTES [SEED]`: print what came of it; end with 1 where anything was wrong."""

from __future__ import annotations

import random
import sys
from pathlib import Path
from tempfile import TemporaryDirectory

from tests.soak.run import lost_primary, soak
from tests.world import ROOT

PORT = 8700


def main() -> int:
    if sys.argv[1:2] == ["cluster"]:
        return _cluster()
    minutes = float(sys.argv[1]) if len(sys.argv) > 1 else 5
    seed = int(sys.argv[2]) if len(sys.argv) > 2 else random.SystemRandom().randrange(10**6)
    home = ROOT / ".jamb-test"
    home.mkdir(exist_ok=True)
    with TemporaryDirectory(prefix="soak-", dir=home) as folder:
        print(f"seed {seed}, {minutes:g} minutes", flush=True)
        told = soak(Path(folder), PORT, minutes * 60, seed)
        print(*told.lines(), sep="\n")
        for log in Path(folder).glob("*.log"):
            if told.wrong:
                print(log.name, *log.read_text().splitlines()[-40:], sep="\n")
    return 1 if told.wrong else 0


def _cluster() -> int:
    """Two services behind nginx and PgBouncer, a primary and a standby: one process is killed, then the primary lost."""
    home = ROOT / ".jamb-test"
    home.mkdir(exist_ok=True)
    with TemporaryDirectory(prefix="cluster-", dir=home) as folder:
        told = lost_primary(Path(folder), PORT, 20, fronted=True)
    print(*told.lines(), sep="\n")
    return 1 if told.wrong else 0


if __name__ == "__main__":
    sys.exit(main())
