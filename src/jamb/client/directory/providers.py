"""Outside OpenID providers by which people of a directory sign in."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from jamb.client.base.section import Section, match_header, path_segment
from jamb.wire.directory.providers import SignInProvider, WhoWouldSignIn


class Providers(Section):
    def list(self) -> Sequence[SignInProvider]:
        return self._transport.many(SignInProvider, "GET", "/providers")

    def save(
        self,
        name: str,
        *,
        title: str,
        issuer: str,
        client_id: str,
        secret: str | None = None,
        adds_people: bool = False,
        groups_claim: str = "groups",
        groups: Mapping[str, str] | None = None,
        reason: str = "",
        if_match: str | None = None,
    ) -> SignInProvider:
        """Let people sign in by a provider, or change one.

        Args:
            secret: what the provider gave with the client id; None: what it has stays.
            groups: names of groups here, by what the provider calls them.
            if_match: the `version` that you saw; if it is another now, `Outdated` is raised and nothing is changed.

        Raises:
            Conflict (needs-agreement): another person must agree; then ask for it again.
        """
        body = {
            "title": title,
            "issuer": issuer,
            "client_id": client_id,
            "secret": secret,
            "adds_people": adds_people,
            "groups_claim": groups_claim,
            "groups": dict(groups or {}),
            "reason": reason,
        }
        path = f"/providers/{path_segment(name)}"
        return self._transport.one(SignInProvider, "PUT", path, json=body, headers=match_header(if_match))

    def remove(self, name: str) -> None:
        self._transport.send("DELETE", f"/providers/{path_segment(name)}")

    def preview(self, name: str, claims: Mapping[str, Any]) -> WhoWouldSignIn:
        """Return whom these claims of the provider would mean. Keeps nothing."""
        body = {"claims": dict(claims)}
        return self._transport.one(WhoWouldSignIn, "POST", f"/providers/{path_segment(name)}/trial", json=body)
