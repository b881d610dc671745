"""Faults under load, with the callers' own journal: `make soak MINUTES=60`, and shortly in every run of the tests."""
