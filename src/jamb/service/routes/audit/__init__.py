"""What is wrong with registrations, and what is done about it."""
