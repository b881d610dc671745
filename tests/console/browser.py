"""One headless Chromium for the run, one context per test."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager, contextmanager
from pathlib import Path

import pytest
from playwright.sync_api import Browser, Page, expect, sync_playwright

from tests.world import ROOT, World

# Debian's Chromium without windows, where there is one: a page costs it a third of what it costs the whole browser.
BROWSERS = ("/usr/bin/chromium-headless-shell", "/usr/bin/chromium")
FLAGS = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
]
Open = Callable[..., AbstractContextManager[Page]]
AXE = (ROOT / "console/node_modules/axe-core/axe.min.js").read_text()
# What the look changes; all else is the same in both.
COLOURS = ["color-contrast", "link-in-text-block"]
# How fast the machine is today is no property of the console.
PATIENCE = 60_000
expect.set_options(PATIENCE)


def faults(page: Page, *, dark: bool = True) -> list[str]:
    """Run axe over the page as it stands, and over its colours in the dark too; return what it finds, in words."""
    if not page.evaluate("'axe' in window"):
        page.evaluate(AXE)
    found = []
    for look, rules in (("dark", COLOURS), ("light", None))[not dark :]:
        page.emulate_media(color_scheme=look)
        page.wait_for_function("look => document.documentElement.dataset.theme === look", arg=look)
        options = {"resultTypes": ["violations"], **({"runOnly": rules} if rules is not None else {})}
        seen = page.evaluate("options => axe.run(document, options)", options)
        found += [
            f"{look}, {one['id']}: {node['target']} {node['failureSummary']}"
            for one in seen["violations"]
            for node in one["nodes"]
        ]
    return found


@pytest.fixture(scope="session")
def browser() -> Iterator[Browser]:
    with sync_playwright() as playwright:
        there = next(path for path in BROWSERS if Path(path).exists())
        started = playwright.chromium.launch(executable_path=there, headless=True, args=FLAGS)
        yield started
        started.close()


@pytest.fixture
def open_console(world: World, browser: Browser) -> Open:
    """Open the console signed in as the person with a role; fails on any script error or policy violation."""

    @contextmanager
    def opened(
        role: str | None = "steward",
        *,
        path: str = "/",
        signed_in: bool = True,
        directory: str = "quillhaven",
        locale: str = "en-GB",
    ) -> Iterator[Page]:
        context = browser.new_context(
            viewport={"width": 1280, "height": 800},
            reduced_motion="reduce",
            base_url=world.base_url,
            locale=locale,
            permissions=["clipboard-read", "clipboard-write"],
        )
        if signed_in:
            with world.session(role, directory) as http:
                cookie = {"name": "jamb_session", "value": http.cookies["jamb_session"], "url": world.base_url}
            context.add_cookies([cookie])  # type: ignore[list-item]
        page = context.new_page()
        wrong: list[str] = []
        page.on("pageerror", lambda error: wrong.append(str(error)))
        page.on("console", lambda said: wrong.append(said.text) if "Content Security Policy" in said.text else None)
        page.set_default_timeout(PATIENCE)
        page.goto(path)
        yield page
        context.close()
        assert wrong == []

    return opened
