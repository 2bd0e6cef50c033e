"""Check Post: holds a generated data API against its OpenAPI description."""

__version__ = "0.1.0"
