"""Client applications and their publishers."""
