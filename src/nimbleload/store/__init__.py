"""Files: the session file, the exchange format, the cost library."""
