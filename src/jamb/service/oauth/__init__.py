"""The OAuth endpoints of each directory, under /d/{directory}."""
