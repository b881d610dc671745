"""Charters: write a client's down, and compare one with what is there."""

from __future__ import annotations

from jamb.client.base.section import Section, path_segment
from jamb.wire.consent.charters import Charter, CharterComparison, WrittenCharter


class Charters(Section):
    def write(self, client_id: str, *, rightsized: bool = False) -> WrittenCharter:
        """Return what a client is as a charter. `rightsized`: with what fits its use instead of what it holds."""
        path = f"/clients/{path_segment(client_id)}/charter"
        return self._transport.one(WrittenCharter, "GET", path, params={"rightsized": rightsized})

    def compare(self, charter: Charter) -> CharterComparison:
        """Return what differs from the client of its name, and what following it would do. Changes nothing.

        Raises:
            BadInput: it names what this directory does not have, or could not have.
        """
        body = charter.model_dump(mode="json", by_alias=True)
        return self._transport.one(CharterComparison, "POST", "/charters/comparison", json=body)
