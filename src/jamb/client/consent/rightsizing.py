"""Right-sizing: what would do for a client at a resource, tried in a dry run, put in force."""

from __future__ import annotations

import builtins

from jamb.client.base.section import Section, path_segment
from jamb.wire.consent import rightsizing as wire
from jamb.wire.consent.requests import ConsentRequest


class Rightsizing(Section):
    def propose(self, client_id: str, resource: str) -> wire.Rightsizing:
        """Return the smallest grant that fits the use, beside what is held. Changes nothing."""
        return self._transport.one(wire.Rightsizing, "GET", _path(client_id, resource))

    def start(self, client_id: str, resource: str, *, days: int | None = None, reason: str = "") -> wire.DryRun:
        """Begin to count what it would refuse, for some days or as the policy says."""
        body = {"days": days, "reason": reason}
        return self._transport.one(wire.DryRun, "POST", f"{_path(client_id, resource)}/dry-run", json=body)

    def request(self, client_id: str, resource: str, reason: str, *, days: int | None = None) -> ConsentRequest:
        """Ask an approver to put it in force; it is in a dry run until then, if it is not already."""
        body = {"reason": reason, "days": days}
        return self._transport.one(ConsentRequest, "POST", f"{_path(client_id, resource)}/request", json=body)

    def drop(self, client_id: str, resource: str) -> wire.DryRun:
        return self._transport.one(wire.DryRun, "DELETE", f"{_path(client_id, resource)}/dry-run")

    def enforce(self, client_id: str, resource: str, *, force: bool = False, reason: str = "") -> wire.DryRun:
        """Put what was in a dry run in force.

        Raises:
            StillInUse: it is not over yet, or something was missed, and it is not forced.
        """
        body = {"force": force, "reason": reason}
        return self._transport.one(wire.DryRun, "POST", f"{_path(client_id, resource)}/enforcement", json=body)

    def dry_runs(self) -> builtins.list[wire.DryRun]:
        """Return what is in a dry run, the oldest first."""
        return self._transport.many(wire.DryRun, "GET", "/audit/dry-runs")


def _path(client_id: str, resource: str) -> str:
    return f"/clients/{path_segment(client_id)}/rightsizing/{path_segment(resource)}"
