"""Runs against an API in memory, with a clock of its own, that crash at every moment and are swept behind it."""
