"""What is wrong with registrations, since when, and what is done about it."""
