"""What was found out about the computer itself, apart from any session."""
