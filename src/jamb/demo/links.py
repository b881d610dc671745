"""Handover links of the demo: one that was opened and tried again by somebody else, and one that waits."""

from __future__ import annotations

from contextlib import suppress
from datetime import datetime, timedelta
from uuid import UUID

from jamb.actions.base.act import Act
from jamb.actions.credentials import handovers
from jamb.actions.credentials.adding import Delivery, SecretIssued, add_credential
from jamb.actions.credentials.shown_once import carried
from jamb.core.errors import AlreadyEnded
from jamb.demo.history import History

_CLIENT = "Fuel quay scheduler"


def hand_over(history: History) -> None:
    """Let both links be made, and the older one be opened, then tried from another place."""
    now = history.now
    history.also(now - timedelta(days=2, hours=5), lambda at: _opened(history, at))
    history.also(now - timedelta(hours=3), lambda at: _make(history, "For the new scheduler at the fuel quay", 48, at))


def _make(history: History, note: str, hours: int, at: datetime) -> handovers.Sealed:
    made: list[handovers.Sealed] = []
    then = handovers.seal_into(history.backend, handovers.HandoverTerms(hours, note=note), carried, made)
    client_id, actor = history.client_id(_CLIENT), history.actors["maren.oduya"]
    add_credential(
        Act(history.backend, history.port, actor, at), client_id, SecretIssued(120), "", delivery=Delivery(then)
    )
    return made[0]


def _opened(history: History, at: datetime) -> None:
    link = _make(history, "", 24, at).link
    identity, _, key = link.rpartition("/")[2].partition("#")
    for later, address in ((timedelta(hours=1), "192.0.2.44"), (timedelta(hours=20), "198.51.100.7")):
        who = handovers.Opening(address, "a browser")
        with suppress(AlreadyEnded):
            handovers.open_link(history.backend, UUID(identity), key, "", who, at + later)
