"""insight."""
