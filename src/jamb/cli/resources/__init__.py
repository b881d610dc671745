"""Resources: catalogues, reach, use, what was revoked, and why something is allowed or refused."""
