"""Part of the build: a wheel without the built console, the migrations or the marker of types is not made."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from hatchling.builders.hooks.plugin.interface import BuildHookInterface

PARTS = (
    "service/static/index.html",
    "service/static/assets",
    "service/pages/templates/audit-report.html",
    "store/migrations/env.py",
    "py.typed",
)


class WholeWheel(BuildHookInterface):
    def initialize(self, version: str, build_data: dict[str, Any]) -> None:
        if version == "editable":
            return
        missing = [part for part in PARTS if not (Path(self.root) / "src" / "jamb" / part).exists()]
        if missing:
            raise FileNotFoundError(f"The wheel would lack {', '.join(missing)}: run `make console`, then `make dist`.")
