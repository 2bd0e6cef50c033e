"""The rows that a run makes: one door for all writes, their journal on disk, and their removal."""
