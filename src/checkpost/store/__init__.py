"""Runs with their exchanges, kept in SQLite beside the profile."""
