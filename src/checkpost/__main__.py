"""``python -m checkpost`` is the same as ``checkpost``."""

from checkpost.cli import main

main()
