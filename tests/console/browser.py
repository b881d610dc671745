"""One headless Chromium for the run, one context per test."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager, contextmanager

import pytest
from playwright.sync_api import Browser, Page, sync_playwright

from tests.world import World

FLAGS = [
    "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking",
    "--disable-component-update", "--disable-sync",
]  # fmt: skip
Open = Callable[..., AbstractContextManager[Page]]


@pytest.fixture(scope="session")
def browser() -> Iterator[Browser]:
    with sync_playwright() as playwright:
        started = playwright.chromium.launch(executable_path="/usr/bin/chromium", headless=True, args=FLAGS)
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
        dark: bool = False,
        signed_in: bool = True,
        directory: str = "quillhaven",
    ) -> Iterator[Page]:
        context = browser.new_context(
            viewport={"width": 1280, "height": 800},
            color_scheme="dark" if dark else "light",
            base_url=world.base_url,
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
        page.set_default_timeout(10_000)
        page.goto(path)
        yield page
        context.close()
        assert wrong == []

    return opened
