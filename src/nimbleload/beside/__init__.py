"""A process beside the window that works out what takes long, so that the window never waits for it."""
