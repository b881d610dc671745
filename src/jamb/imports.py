"""Imports of a program. What they make stays: to look through it for what is used no more is a third of a start."""

from __future__ import annotations

import gc
from collections.abc import Iterator
from contextlib import contextmanager


@contextmanager
def kept() -> Iterator[None]:
    """Collect nothing during the block, and never look at what it made again: each look would hold up all requests."""
    gc.disable()
    try:
        yield
    finally:
        gc.freeze()
        gc.enable()
