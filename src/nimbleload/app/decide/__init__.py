"""What may be decided: options with their savings, the plan's steps, and their dialogs."""
