"""What became of a device that asked (RFC 8628)."""

from __future__ import annotations

from enum import StrEnum


class DeviceState(StrEnum):
    PENDING = "pending"
    APPROVED = "approved"
    DENIED = "denied"
    SERVED = "served"
