"""Clients that act for people: what they ask of a person, and what both may do (OAuth 2.0, OpenID Connect)."""
