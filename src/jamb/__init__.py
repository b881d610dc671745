"""Jamb: which client applications exist, what each may do, how each proves itself, and whether that is still right."""

__version__ = "0.1.0"
