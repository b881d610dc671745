"""A made-up directory of any size, the same for the same seed, with faults planted in it and written down.

For trying the audit at size: every fault is one that a rule must find, everything else is in order or nearly not.
"""

from jamb.demo.estate.faults import DECOYS, FAULTS
from jamb.demo.estate.load import load_estate
from jamb.demo.estate.plan import Estate, Planted, plan_estate

__all__ = ["DECOYS", "FAULTS", "Estate", "Planted", "load_estate", "plan_estate"]
