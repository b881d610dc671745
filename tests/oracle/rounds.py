"""Look at what changed in a directory, round after round, in a process of its own, until that is stopped."""

from __future__ import annotations

import sys
import time
from datetime import UTC, datetime
from typing import Any

from jamb.actions.audit.evaluation import sweep
from jamb.actions.base.backend import Backend
from jamb.store.connections.engine import make_engine


def main(url: str, slug: str) -> None:
    # To look and to keep what is found takes no key.
    sealer: Any = None
    backend = Backend(make_engine(url), sealer, "http://127.0.0.1")
    while True:
        sweep(backend, slug, datetime.now(UTC))
        time.sleep(0.005)


if __name__ == "__main__":
    main(*sys.argv[1:])
