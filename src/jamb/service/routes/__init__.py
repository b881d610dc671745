"""The administrator's API, by noun. A route parses, calls the action, and answers."""
