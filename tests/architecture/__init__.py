"""The house holds to its plan: what is written of it is true, and its shape is kept."""
