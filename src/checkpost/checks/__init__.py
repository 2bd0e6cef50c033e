"""The checks: a file per family, a function per check."""
