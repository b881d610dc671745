"""Every line of the console's styles means something to the browser, and every role that it names is defined."""

from __future__ import annotations

import re

from playwright.sync_api import Browser

from tests.world import ROOT

SOURCE = ROOT / "console" / "src"


def styles() -> str:
    found = []
    for path in sorted(SOURCE.rglob("*")):
        if path.suffix == ".css":
            found.append(path.read_text())
        elif path.suffix == ".vue":
            found += re.findall(r"<style[^>]*>(.*?)</style>", path.read_text(), re.DOTALL)
    return re.sub(r"/\*.*?\*/", "", "\n".join(found), flags=re.DOTALL)


def test_the_browser_knows_every_declaration(browser: Browser) -> None:
    rules = re.findall(r"\{([^{}]*)\}", styles())
    wanted = sorted({line.strip() for rule in rules for line in rule.split(";") if ":" in line})
    page = browser.new_page()
    unknown = page.evaluate(
        """declarations => declarations.filter(one => {
            const cut = one.indexOf(":"), name = one.slice(0, cut).trim();
            const value = one.slice(cut + 1).replace("!important", "").trim();
            return !name.startsWith("--") && !CSS.supports(name, value);
        })""",
        wanted,
    )
    page.close()
    # Vue's own way to name a value of a component.
    assert [one for one in unknown if "v-bind(" not in one] == []
    assert len(wanted) > 200


def test_every_role_that_is_named_is_defined() -> None:
    everything = styles() + "".join(path.read_text() for path in SOURCE.rglob("*.vue"))
    defined = set(re.findall(r"(--[\w-]+)\s*:", everything)) | set(re.findall(r"\"(--[\w-]+)\"", everything))
    named = set(re.findall(r"var\((--[\w-]+)", everything))
    assert named - defined == set()
