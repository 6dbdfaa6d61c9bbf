"""What goes on beside the window's thread: the desk with all that is computed, long work, files."""
