"""What is open in the window, and its history; pure."""
