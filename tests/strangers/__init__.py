"""Data APIs that published generators make of a seed bank's tables, with real databases: no part of the quick suite."""
