"""The version, alone, so that reading it imports nothing."""

__version__ = "0.1.0"
