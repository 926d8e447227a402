"""present."""
