"""Start: where to begin, while no session is open."""
