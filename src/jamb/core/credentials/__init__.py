"""Credentials: their kinds and form, their dates, what a client may have, and what an integrator must type."""
