"""Delimited text: how a file is written (`dialect`), and reading its rows (`reader`)."""
