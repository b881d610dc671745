"""Rotation: a state machine over two credentials, and a forecast of the work to come."""

from jamb.core.rotation.forecast import Held, Week, forecast
from jamb.core.rotation.lifecycle import (
    Rotation,
    RotationEnd,
    RotationState,
    Seen,
    check_abandoning,
    check_closing,
    overlap_end,
)

__all__ = [
    "Held",
    "Rotation",
    "RotationEnd",
    "RotationState",
    "Seen",
    "Week",
    "check_abandoning",
    "check_closing",
    "forecast",
    "overlap_end",
]
