"""What is said: every wording, once."""
