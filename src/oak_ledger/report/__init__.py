"""report."""
