"""The user's side of a run: where contract and API are, who may use it, and what was inferred wrongly."""
