"""The gate before an API of any language: a reverse proxy asks it whether a request may pass."""
