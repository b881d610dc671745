"""`make fuzz`: the same as the test, without its bound, on a demo of its own.

Give the examples an operation, and a seed to see a run again.
"""

from __future__ import annotations

import os
import sys

# A folder and ports of its own, beside those of the tests.
os.environ["PYTEST_XDIST_WORKER"] = "gw3"

from tests.conftest import started_demo
from tests.contract.fuzz import fuzz


def main(examples: int = 100, seed: int | None = None) -> int:
    with started_demo() as world:
        done = fuzz(world, examples=examples, seed=seed)
    print(done.stdout, done.stderr)
    return done.returncode


if __name__ == "__main__":
    sys.exit(main(*map(int, sys.argv[1:])))
