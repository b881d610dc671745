"""Clients: register, own, see, explain, disable, revoke tokens."""

from __future__ import annotations

import itertools
from base64 import b64encode
from collections.abc import Iterator, Sequence
from typing import Unpack

from jamb.client.base.section import Section, idempotency_header, match_header, path_segment
from jamb.core.clients.clients import OwnerLevel
from jamb.core.credentials.leaks import leaks_in
from jamb.core.errors import BadInput, NotFound
from jamb.core.nearest_names import SHORTEST_BEGINNING, did_you_mean
from jamb.core.permissions import AccessKind
from jamb.wire.clients.clients import Changed, Client, Dossier, Registered, TokensRevoked
from jamb.wire.credentials.credentials import Attempt, Sheet
from jamb.wire.resources.access import Explanation
from jamb.wire.resources.probe import Probe
from jamb.wire.resources.reach import ReachSheet
from jamb.wire.resources.usage import Refusals

# Among so many clients a name is looked for that is like what was typed.
_LOOKED_AT = 100


class Clients(Section):
    def register(
        self,
        name: str,
        purpose: str,
        *,
        once: str | None = None,
        **said: Unpack[Registered],
    ) -> Client:
        """Register a client; the answer has its client id and next steps.

        Args:
            once: names this change; asked for again with the same key it raises `DoneBefore`, whose `made` says which.
            said: kind, owners (logins or ids), redirect_uris, publisher (the domain of whoever makes it, if another),
                trial_ends_at (until when it is let in on trial), post_logout_redirect_uris, backchannel_logout_uri,
                sign_in_groups (whose people alone may sign in to it).
        """
        body = {"name": name, "purpose": purpose, **said}
        return self._transport.one(Client, "POST", "/clients", json=body, headers=idempotency_header(once))

    def change(self, client_id: str, *, if_match: str | None = None, **changes: Unpack[Changed]) -> Client:
        """Change what a registration says; what is left out stays. `no_trial`: it stays for good.

        Args:
            if_match: the `version` that you saw; if it is another now, nothing is changed.
            logo: among the changes, a PNG, JPEG or WEBP picture; b"" takes the one that it has off.

        Raises:
            Outdated: somebody changed it meanwhile.
        """
        logo = changes.pop("logo", None)
        sent = {**changes, **({} if logo is None else {"logo": b64encode(logo).decode()})}
        path = f"/clients/{path_segment(client_id)}"
        return self._transport.one(Client, "PUT", path, json=sent, headers=match_header(if_match))

    def change_owners(
        self,
        client_id: str,
        *,
        add: Sequence[str] = (),
        remove: Sequence[str] = (),
        level: OwnerLevel = OwnerLevel.FULL,
    ) -> Client:
        """Add owners of a level and remove owners, by login or id, in one step."""
        body = {"add": list(add), "remove": list(remove), "level": level.value}
        return self._transport.one(Client, "POST", f"/clients/{path_segment(client_id)}/owners", json=body)

    def list(self, *, q: str | None = None, attention: str | None = None, sort: str | None = None) -> Iterator[Client]:
        """Yield all matching clients, over all pages.

        Args:
            q: part of a name or purpose, a client id, the hint of a secret, or the thumbprint of a key or certificate.

        Raises:
            BadInput: `q` holds a whole secret: it would stand in an address, which logs keep.
        """
        if q and any(leaks_in(q.encode())):
            raise BadInput.field(
                "q", "a secret (not shown)", "its hint", "Withdraw it if it leaked: `jamb leaks scan`."
            )
        return self._transport.pages(Client, "/clients", {"q": q, "attention": attention, "sort": sort, "limit": 100})

    def read(self, client_id: str) -> Dossier:
        return self._transport.one(Dossier, "GET", f"/clients/{path_segment(client_id)}")

    def find(self, reference: str) -> Client:
        """Return the client of this id, or how it begins, or exact name in any letter case.

        Raises `NotFound`, or `BadInput` if several fit.
        """
        wanted = reference.strip().casefold()
        fit = list(self.list(q=reference.strip()[:100]))
        begins = len(wanted) >= SHORTEST_BEGINNING
        found = [client for client in fit if client.id == wanted] or [
            client for client in fit if client.name.casefold() == wanted or (begins and client.id.startswith(wanted))
        ]
        if len(found) == 1:
            return found[0]
        if found:
            raise BadInput.field("client", reference, "a client id: several clients fit this name")
        # By the first letters: who mistypes the first one looks at the list.
        some = itertools.islice(self.list(q=wanted[:3]), _LOOKED_AT)
        step = did_you_mean(wanted, (client.name for client in some), "Give its id or its whole name; see the list.")
        raise NotFound(f"There is no client “{reference}”.", next_step=step)

    def attempts(self, client_id: str, *, failed: bool = False) -> Iterator[Attempt]:
        """Yield the client's token requests, newest first."""
        return self._transport.pages(
            Attempt, f"/clients/{path_segment(client_id)}/attempts", {"failed": failed, "limit": 100}
        )

    def probe(
        self,
        client_id: str,
        resource: str,
        operation: str,
        *,
        object: str | None = None,  # noqa: A002 - the word of the plan
        secret: str | None = None,
        person: str | None = None,
    ) -> Probe:
        """Fetch a token, read it, call the resource with it, and explain how it went.

        Args:
            secret: the client's own; left out, a token that serves the probe alone, with which nothing is done.
            person: login or id of whom it is to act for; None: it acts as itself.
        """
        body = {"resource": resource, "operation": operation, "object": object, "secret": secret, "person": person}
        return self._transport.one(Probe, "POST", f"/clients/{path_segment(client_id)}/probe", json=body)

    def refusals(self, client_id: str) -> Sequence[Refusals]:
        """Return the calls that protected APIs refused, latest first."""
        return self._transport.many(
            Refusals, "GET", f"/clients/{path_segment(client_id)}/refusals", params={"limit": 100}
        )

    def explain(
        self,
        client_id: str,
        resource: str,
        operation: str,
        *,
        kind: AccessKind = AccessKind.APPLICATION,
        person: str | None = None,
        object: str | None = None,  # noqa: A002 - the word of the plan
        token: str | None = None,
    ) -> Explanation:
        """Return every check behind a decision and the smallest change that would allow it. `token`: an access token
        to judge too.
        """
        body = {
            "resource": resource,
            "operation": operation,
            "kind": kind.value,
            "person": person,
            "object": object,
            "token": token,
        }
        return self._transport.one(Explanation, "POST", f"/clients/{path_segment(client_id)}/explanation", json=body)

    def reach(self, client_id: str, resource: str, *, object: str | None = None) -> ReachSheet:  # noqa: A002
        """Return what the client can and cannot touch at a resource; with an object, the decision on it too."""
        params = {"resource": resource, **({"object": object} if object is not None else {})}
        return self._transport.one(ReachSheet, "GET", f"/clients/{path_segment(client_id)}/reach", params=params)

    def disable(self, client_id: str, *, reason: str = "") -> Client:
        """Disable a client; its tokens are revoked."""
        return self._state(client_id, "disabled", reason)

    def enable(self, client_id: str, *, reason: str = "") -> Client:
        return self._state(client_id, "live", reason)

    def revoke_tokens(self, client_id: str, *, reason: str = "") -> TokensRevoked:
        """Have every token that the client holds refused; new ones count."""
        return self._transport.one(
            TokensRevoked, "POST", f"/clients/{path_segment(client_id)}/token-revocation", json={"reason": reason}
        )

    def _state(self, client_id: str, state: str, reason: str) -> Client:
        body = {"state": state, "reason": reason}
        return self._transport.one(Client, "POST", f"/clients/{path_segment(client_id)}/state", json=body)

    def sheets(self, client_id: str) -> Sequence[Sheet]:
        """Return the connection sheet of each resource, without a secret."""
        return self._transport.many(Sheet, "GET", f"/clients/{path_segment(client_id)}/sheet")
