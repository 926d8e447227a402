"""The demo: made-up data, and a working day with it."""
