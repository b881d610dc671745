"""PostgreSQL: tables, named statements, the unit of work, migrations, and secrets at rest. Knows only core."""
