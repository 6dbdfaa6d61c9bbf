"""Run real plugins against a real clock, each in a process of its own."""
