"""Tests of the process beside the window."""
