"""Commands that compute and explain figures."""
