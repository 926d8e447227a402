"""Tests that need more than pip packages: Java, a browser. `make test-outside` runs them."""
