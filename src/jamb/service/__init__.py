"""The long-running service: the administrator's API, the OAuth endpoints, sign-in, and the built console."""
