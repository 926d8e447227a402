"""Tests without an end or with downloads, run by hand: `python -m tests.longer.NAME`."""
