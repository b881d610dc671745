"""How a process is set up: its settings, where they come from, what is wrong with them, and its sealing key."""
