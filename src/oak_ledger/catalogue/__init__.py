"""catalogue."""
