"""The page Balance: buffer row, tracks, one block, the load through the piece."""
