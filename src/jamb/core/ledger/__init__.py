"""The tamper-evident record of every change: entries chained by hashes."""

from jamb.core.ledger.chain import GENESIS, Entry, Fault, canonical, chained, seal_of, verify

__all__ = ["GENESIS", "Entry", "Fault", "canonical", "chained", "seal_of", "verify"]
