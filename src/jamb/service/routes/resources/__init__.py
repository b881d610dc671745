"""Resources: catalogues, reach, use, and why something is allowed or refused."""
