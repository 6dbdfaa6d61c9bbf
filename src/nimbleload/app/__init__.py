"""The window: the only room that knows Qt."""
