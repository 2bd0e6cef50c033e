"""Every answer against the contract: its status, media type, headers, body, and the fields of its rows."""
