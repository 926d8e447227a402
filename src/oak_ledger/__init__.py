"""Curate a shared data source."""
