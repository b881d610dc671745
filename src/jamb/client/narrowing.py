"""Right-sizing: what would do for a client at a resource, tried out dry, put in force."""

from __future__ import annotations

import builtins

from jamb.client.noun import Noun, part
from jamb.wire.narrowing import Fit, Trial
from jamb.wire.requests import ConsentRequest


class Narrowing(Noun):
    def fit(self, client_id: str, resource: str) -> Fit:
        """Return the smallest grant that fits the use, beside what is held. Changes nothing."""
        return self._transport.one(Fit, "GET", _path(client_id, resource))

    def try_out(self, client_id: str, resource: str, *, days: int | None = None, reason: str = "") -> Trial:
        """Begin to count what it would refuse, for some days or as the policy says."""
        body = {"days": days, "reason": reason}
        return self._transport.one(Trial, "POST", f"{_path(client_id, resource)}/trial", json=body)

    def request(self, client_id: str, resource: str, reason: str, *, days: int | None = None) -> ConsentRequest:
        """Ask an approver to put it in force; it is tried out until then, if it is not already."""
        body = {"reason": reason, "days": days}
        return self._transport.one(ConsentRequest, "POST", f"{_path(client_id, resource)}/request", json=body)

    def drop(self, client_id: str, resource: str) -> Trial:
        return self._transport.one(Trial, "DELETE", f"{_path(client_id, resource)}/trial")

    def enforce(self, client_id: str, resource: str, *, force: bool = False, reason: str = "") -> Trial:
        """Put what was tried out in force.

        Raises:
            StillInUse: it is not over yet, or something was missed, and it is not forced.
        """
        body = {"force": force, "reason": reason}
        return self._transport.one(Trial, "POST", f"{_path(client_id, resource)}/enforcement", json=body)

    def trials(self) -> builtins.list[Trial]:
        """Return what is tried out, the oldest first."""
        return self._transport.many(Trial, "GET", "/audit/trials")


def _path(client_id: str, resource: str) -> str:
    return f"/clients/{part(client_id)}/fits/{part(resource)}"
