"""The demo: a PostgreSQL cluster of its own, the scenario of a made-up port, and stand-in protected APIs."""
