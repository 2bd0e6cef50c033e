"""Sound data APIs with habits drawn by seed: against none of them may anything be found."""
