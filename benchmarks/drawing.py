"""Pictures of how cost grows: `python -m benchmarks.drawing figures.json docs/scale`, after `-m benchmarks growth`.

Both axes are logarithmic: a line that rises as the dashed one grows with the clients, a flat one does not.
"""

from __future__ import annotations

import json
import sys
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from html import escape
from math import ceil, floor, log10
from pathlib import Path

WIDE, TALL, LEFT, RIGHT, TOP, BOTTOM = 640, 340, 64, 190, 44, 48
COLOURS = ("#1d5b73", "#a8551a", "#5b6f2f", "#8a3b6b", "#3f4c9a", "#7a6a1f")
# Each picture: its name, what it shows, the unit, and the figures that are in it.
PICTURES: Mapping[str, tuple[str, str, tuple[str, ...]]] = {
    "tokens": (
        "A token by secret",
        "CPU ms a token",
        ("a token by secret", "a token by secret, database"),
    ),
    "lists": (
        "Lists and the client's page",
        "CPU ms of the service a read",
        ("clients by name", "clients by a word", "clients, a deep page", "dossier", "find anything"),
    ),
    "lists-database": (
        "The same at the database",
        "CPU ms of PostgreSQL a read",
        tuple(
            f"{name}, database"
            for name in ("clients by name", "clients by a word", "clients, a deep page", "dossier", "find anything")
        ),
    ),
    "audit": (
        "What the audit tells",
        "CPU ms of the service a read",
        ("findings", "posture", "today", "who can do this", "escalation paths", "ledger"),
    ),
    "rounds": (
        "What the service does by itself",
        "CPU ms",
        ("audit of all, a client", "audit with nothing changed", "notices, nothing new", "notices, each hour"),
    ),
    "storage": ("What is stored", "MB", ("stored",)),
}


@dataclass(frozen=True, slots=True)
class Line:
    """Figures by size, rising."""

    name: str
    points: Sequence[tuple[float, float]]


def drawn(title: str, unit: str, lines: Sequence[Line]) -> str:
    """Return the picture as SVG, with a dashed line that doubles where the clients double."""
    sizes = [x for line in lines for x, _ in line.points]
    values = [max(y, 0.01) for line in lines for _, y in line.points]
    x0, x1 = floor(log10(min(sizes))), ceil(log10(max(sizes)))
    y0, y1 = floor(log10(min(values))), max(ceil(log10(max(values))), floor(log10(min(values))) + 1)

    def across(size: float) -> float:
        return LEFT + (log10(size) - x0) / (x1 - x0) * (WIDE - LEFT - RIGHT)

    def up(value: float) -> float:
        return TALL - BOTTOM - (log10(max(value, 0.01)) - y0) / (y1 - y0) * (TALL - TOP - BOTTOM)

    opened = f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {WIDE} {TALL}" role="img"'
    parts = [
        f'{opened} font-family="sans-serif" font-size="12" aria-label="{escape(title)}">',
        f'<rect width="{WIDE}" height="{TALL}" fill="#fcfbf7"/>',
        f'<text x="{LEFT}" y="22" font-size="15" font-weight="600">{escape(title)}</text>',
        f'<text x="{LEFT}" y="{TOP - 6}" fill="#555">{escape(unit)}</text>',
        f'<text x="{LEFT}" y="{TALL - 10}" fill="#555">clients in the directory</text>',
    ]
    for power in range(x0, x1 + 1):
        x = across(10**power)
        parts.append(f'<path d="M{x:.1f} {TOP}V{TALL - BOTTOM}" stroke="#ddd"/>')
        parts.append(f'<text x="{x:.1f}" y="{TALL - BOTTOM + 16}" text-anchor="middle">{10**power:,}</text>')
    for power in range(y0, y1 + 1):
        y = up(10**power)
        parts.append(f'<path d="M{LEFT} {y:.1f}H{WIDE - RIGHT}" stroke="#ddd"/>')
        parts.append(f'<text x="{LEFT - 6}" y="{y + 4:.1f}" text-anchor="end">{10**power:g}</text>')
    # From the lowest corner, as far as it stays inside.
    decades = min(x1 - x0, y1 - y0)
    parts.append(
        f'<path d="M{across(10**x0):.1f} {up(10**y0):.1f}L{across(10 ** (x0 + decades)):.1f} '
        f'{up(10 ** (y0 + decades)):.1f}" stroke="#999" stroke-dasharray="4 4"/>'
    )
    ends = _apart([up(line.points[-1][1]) for line in lines], TALL - BOTTOM - 4)
    for line, colour, end in zip(lines, COLOURS, ends, strict=False):
        path = "L".join(f"{across(x):.1f} {up(y):.1f}" for x, y in line.points)
        parts.append(f'<path d="M{path}" fill="none" stroke="{colour}" stroke-width="2"/>')
        parts += [f'<circle cx="{across(x):.1f}" cy="{up(y):.1f}" r="3" fill="{colour}"/>' for x, y in line.points]
        x = across(line.points[-1][0])
        parts.append(f'<text x="{x + 8:.1f}" y="{end + 4:.1f}" fill="{colour}">{escape(line.name)}</text>')
    return "\n".join([*parts, "</svg>"]) + "\n"


def _apart(heights: Sequence[float], lowest: float, least: float = 14) -> list[float]:
    """Return where names stand beside the ends of their lines, none over another and none below the axis."""
    placed: dict[int, float] = {}
    order = sorted(range(len(heights)), key=lambda one: heights[one])
    last = -least
    for place in order:
        last = placed[place] = max(heights[place], last + least)
    below = lowest + least
    for place in reversed(order):
        below = placed[place] = min(placed[place], below - least)
    return [placed[place] for place in range(len(heights))]


def main(figures: str, folder: str) -> None:
    kept: dict[str, float] = json.loads(Path(figures).read_text())["figures"]
    found: dict[str, list[tuple[float, float]]] = {}
    for name, value in kept.items():
        words = name.removeprefix("growth, ").rsplit(", ", 2)
        if name.startswith("growth, ") and len(words) == 3 and words[1].endswith(" clients"):
            found.setdefault(words[0], []).append((float(words[1].split()[0]), value))
    Path(folder).mkdir(parents=True, exist_ok=True)
    for picture, (title, unit, wanted) in PICTURES.items():
        lines = [Line(name.removesuffix(", database"), sorted(found[name])) for name in wanted]
        if picture == "tokens":
            lines = [Line(said, line.points) for said, line in zip(("service", "database"), lines, strict=True)]
        (Path(folder) / f"{picture}.svg").write_text(drawn(title, unit, lines))


if __name__ == "__main__":
    main(*sys.argv[1:])
