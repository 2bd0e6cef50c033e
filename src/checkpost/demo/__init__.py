"""The stand-in: a small data API generated from the tables of a made-up seed bank."""
