"""`oak field`: its verbs by what they do."""
