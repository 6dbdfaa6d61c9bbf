"""What the kernel's records of a running host tell: its cycle, its blocks, its plugins."""
