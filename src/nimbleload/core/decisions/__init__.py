"""Decisions and plans: what can be done, what it changes, and what to mind."""
