"""Nimble Load: why a heavy mix session overloads, and what it would take to make the block fit."""

__version__ = "0.1.0"
