"""Figures beside a floor run in the same minute: `make bench`."""
