"""Cost cards: what was measured of a plugin, and what follows from it."""
