"""Pages that are made here and not in the browser: templates, in which every value is escaped."""

from __future__ import annotations

import re
from functools import lru_cache
from typing import Any

from jinja2 import Environment, PackageLoader, StrictUndefined
from markupsafe import Markup, escape


def render(template: str, **values: Any) -> str:
    """Return the page of this template."""
    return _environment().get_template(template).render(**values)


@lru_cache(maxsize=1)
def _environment() -> Environment:
    made = Environment(
        loader=PackageLoader("jamb.service.pages"),
        autoescape=True,
        undefined=StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
    )
    made.filters["coded"] = _coded
    return made


def _coded(words: str) -> Markup:
    """Set names of settings, which stand between back quotes, as such."""
    return Markup(re.sub(r"`([a-z_]+)`", r"<code>\1</code>", str(escape(words))))  # noqa: S704 - escaped before
