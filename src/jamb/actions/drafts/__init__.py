"""Clients that software registers by itself: drafts, until the directory gives them something."""
