"""Planning and carrying out a run."""
