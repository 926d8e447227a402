"""Intake: a definition written from rows that are seen for the first time, what it leaves open, and steps that prepare rows."""
