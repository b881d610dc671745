"""The figures of a run by name: kept as JSON, and shown beside those of an earlier run."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from pathlib import Path

# Whatever this much of the earlier figure apart is noise on a machine that others use, too.
NOISE = 0.15
_NOTED: dict[str, float] = {}


def note(part: str, name: str, value: float) -> None:
    """Note a figure of this run: a ratio or a rate, which says the same on another day."""
    _NOTED[f"{part}, {name}"] = round(value, 3)


def read(file: Path) -> dict[str, float]:
    """Return the figures of an earlier run. Raises `SystemExit` where the file holds none."""
    try:
        found = json.loads(file.read_text())["figures"]
        return {str(name): float(value) for name, value in found.items()}
    except (OSError, ValueError, KeyError, TypeError, AttributeError) as error:
        raise SystemExit(f"BASE={file} holds no figures of an earlier run: {error}") from error


def keep(file: Path) -> None:
    file.write_text(json.dumps({"figures": _NOTED}, indent=2) + "\n")


def beside(base: Mapping[str, float]) -> Iterator[str]:
    """Yield a line a figure that both runs have: of this one, of the earlier one, and the ratio."""
    both = [name for name in _NOTED if base.get(name)]
    width = max(map(len, both), default=0)
    yield f"  {'':<{width}}{'now':>12}{'before':>12}{'ratio':>8}"
    for name in both:
        ratio = _NOTED[name] / base[name]
        mark = "" if abs(ratio - 1) <= NOISE else "  *"
        yield f"  {name:<{width}}{_NOTED[name]:12,.2f}{base[name]:12,.2f}{ratio:8.2f}{mark}"
    for name in [*(_NOTED.keys() - base.keys()), *(base.keys() - _NOTED.keys())]:
        yield f"  {name}: in one of the two only"
