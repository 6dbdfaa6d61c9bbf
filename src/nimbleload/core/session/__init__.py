"""Strips, plugins, routing and tempo: the session as the engineer knows it."""
