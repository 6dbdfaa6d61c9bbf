"""The house processors: our own signal processing behind the calling convention that plugins have."""
