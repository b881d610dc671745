"""What the service does by itself, in rounds."""
