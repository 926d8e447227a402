"""Commands that bring rows in and prepare them."""
