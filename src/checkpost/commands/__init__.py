"""The commands: a file each, thin."""
