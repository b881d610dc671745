"""Who comes in."""
