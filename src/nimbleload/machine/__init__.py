"""Look at this computer; read only."""
