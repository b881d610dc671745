"""Where the demo keeps its database and logs: never where a service keeps its key."""

from __future__ import annotations

from pathlib import Path

from jamb.service.config.settings import Settings


def demo_home(settings: Settings) -> Path:
    """Return JAMB_HOME, or `.jamb` of the folder in which the demo is started (the checkout)."""
    return (settings.home if "home" in settings.model_fields_set else Path.cwd() / ".jamb").resolve()
