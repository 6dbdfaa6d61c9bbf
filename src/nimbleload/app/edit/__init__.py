"""The place Session: tracks, chains, sends and clips, and everything that can be changed of them."""
