"""One file a plugin standard, the same few functions in each."""
