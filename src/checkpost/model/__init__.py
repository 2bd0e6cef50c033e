"""Understanding a contract: resources, keys, fields, envelopes, relations, and why each was so read."""
