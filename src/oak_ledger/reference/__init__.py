"""reference."""
