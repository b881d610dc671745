"""Schema migrations (Alembic), run by `jamb-service migrate`."""
