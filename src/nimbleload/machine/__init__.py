"""What this computer and the hosts that run on it do: read only, and nothing of theirs is changed."""
