"""Carry out: what is written for others to read."""
