"""What one person may not do alone, and who else must agree."""
