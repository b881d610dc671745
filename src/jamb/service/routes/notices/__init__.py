"""What people and other systems are told."""
