"""Delimited text: how a file is written (`sniff`), and reading its rows (`reader`)."""
