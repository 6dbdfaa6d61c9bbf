"""The place where a running host is watched."""
