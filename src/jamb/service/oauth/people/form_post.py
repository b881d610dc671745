"""An answer that goes to the client as a form which the browser sends (OAuth 2.0 Form Post Response Mode section 2)."""

from __future__ import annotations

from collections.abc import Mapping

from fastapi.responses import HTMLResponse

from jamb.service.oauth.errors import NO_STORE
from jamb.service.pages import render

# Where the form goes is the client's; and it may lead on from there, which browsers hold against `form-action` too.
POLICY = "default-src 'none'; script-src 'self'; style-src 'self'; base-uri 'none'; frame-ancestors 'none'"


def posting_page(address: str, members: Mapping[str, str]) -> HTMLResponse:
    """Return a page whose form is sent at once, or by its button where no script runs."""
    headers = {**NO_STORE, "Content-Security-Policy": POLICY, "Referrer-Policy": "no-referrer"}
    return HTMLResponse(render("answer.html", address=address, members=members), headers=headers)
