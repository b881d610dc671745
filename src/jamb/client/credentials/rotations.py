"""Rotations."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Any
from uuid import UUID

from jamb.client.base.section import Section, path_segment
from jamb.core.credentials.handover import Deliver
from jamb.wire.base.shapes import checked
from jamb.wire.credentials.rotations import (
    Due,
    NewRotations,
    OpenedRotation,
    OpenedRotations,
    Rotation,
    RotationWanted,
    Week,
)


class Rotations(Section):
    def due(self, *, within: int | None = None) -> Iterator[Due]:
        """Yield what expires within some days (the policy's warning period when left out) and nothing follows yet."""
        return self._transport.pages(Due, "/rotations/due", {"within": within, "limit": 100})

    def list(self, *, client: str | None = None, ended: bool = False) -> Iterator[Rotation]:
        """Yield the rotations under way, of one client (by id) if given; or those that ended lately."""
        return self._transport.pages(Rotation, "/rotations", {"client": client, "ended": ended, "limit": 100})

    def forecast(self, **policy: int) -> Sequence[Week]:
        """Return the rotations of the coming year by week, as if the policy had these settings."""
        return self._transport.many(Week, "GET", "/rotations/forecast", params=dict(policy))

    def open(
        self,
        client_id: str,
        credential_id: UUID,
        *,
        successor: Mapping[str, Any] | None = None,
        days: int | None = None,
        overlap_days: int | None = None,
        rotation_id: UUID | None = None,
        to_owners: bool = False,
    ) -> OpenedRotation:
        """Put another credential beside one; what of it is secret is in this answer only.

        Args:
            to_owners: a link to what is secret goes to the owners in their mails, and is in no answer.
            successor: what follows, as the API takes it; None: one like the old.
            rotation_id: chosen here, so that the rotation can be found though the answer was lost.
        """
        body: dict[str, Any] = {"successor": successor, "days": days, "overlap_days": overlap_days}
        if to_owners:
            body["deliver"] = Deliver.OWNERS.value
        if rotation_id is not None:
            body["id"] = str(rotation_id)
        path = f"/clients/{path_segment(client_id)}/credentials/{credential_id}/rotation"
        return self._transport.one(OpenedRotation, "POST", path, json=body)

    def open_all(
        self,
        wanted: Iterable[RotationWanted],
        *,
        days: int | None = None,
        overlap_days: int | None = None,
        to_owners: bool = False,
    ) -> OpenedRotations:
        """Put another credential like it beside each of these, at most `MOST_AT_ONCE`, in one call.

        What is secret is in this answer only, or with `to_owners` in mails to the owners; what could not be opened is
        told in the answer, each by its problem.

        Raises:
            BadInput: none, or more than are opened at once.
        """
        deliver = Deliver.OWNERS.value if to_owners else None
        body = {"rotations": list(wanted), "days": days, "overlap_days": overlap_days, "deliver": deliver}
        asked = checked(NewRotations, body, "These rotations cannot be asked for.")
        return self._transport.one(OpenedRotations, "POST", "/rotations", json=asked.model_dump(mode="json"))

    def read(self, client_id: str, rotation_id: UUID) -> Rotation:
        return self._transport.one(Rotation, "GET", _one(client_id, rotation_id))

    def reissue(self, client_id: str, rotation_id: UUID) -> OpenedRotation:
        """Issue the new secret again: it was lost before anything used it."""
        return self._transport.one(OpenedRotation, "POST", f"{_one(client_id, rotation_id)}/reissue")

    def extend(self, client_id: str, rotation_id: UUID, days: int) -> Rotation:
        """Let the overlap end `days` from now."""
        return self._transport.one(Rotation, "POST", f"{_one(client_id, rotation_id)}/extension", json={"days": days})

    def close(self, client_id: str, rotation_id: UUID, *, forced: bool = False, reason: str = "") -> Rotation:
        """Withdraw the old credential. Raises `StillInUse` while it is in use, unless it is forced."""
        body = {"forced": forced, "reason": reason}
        return self._transport.one(Rotation, "POST", f"{_one(client_id, rotation_id)}/closing", json=body)

    def abandon(self, client_id: str, rotation_id: UUID, *, reason: str = "") -> Rotation:
        """Withdraw the new credential."""
        body = {"reason": reason}
        return self._transport.one(Rotation, "POST", f"{_one(client_id, rotation_id)}/abandonment", json=body)


def _one(client_id: str, rotation_id: UUID) -> str:
    return f"/clients/{path_segment(client_id)}/rotations/{rotation_id}"
