"""The plan that gives up least."""
