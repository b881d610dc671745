"""Client applications: registering, reading, removing them, and their publishers."""
