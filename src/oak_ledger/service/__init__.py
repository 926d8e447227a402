"""A catalogue over HTTP: sources, their dictionary, questions and reports, by the rights of a token."""
