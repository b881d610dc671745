"""Where clients act for people: what they ask of them, and the tokens that come of it."""
