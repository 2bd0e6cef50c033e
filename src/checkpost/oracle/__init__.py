"""Plain computation of what right answers look like; no requests, no files."""
