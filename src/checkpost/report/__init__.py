"""A run as a document, and that document as people and programs read it."""
