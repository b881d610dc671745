"""How the database is reached: connections that wait for nothing without end, what is said of outages, a standby."""
