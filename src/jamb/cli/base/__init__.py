"""What the other rooms of this layer stand on."""
