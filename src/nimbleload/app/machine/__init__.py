"""The place where the computer is looked at."""
