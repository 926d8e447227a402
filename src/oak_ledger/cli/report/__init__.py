"""`oak report`: reports as files, and reports in the catalogue."""
