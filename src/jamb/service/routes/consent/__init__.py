"""What clients ask for and are granted."""
