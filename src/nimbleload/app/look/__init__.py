"""What all pages look like: theme, panels, pictures, the sentence on top."""
