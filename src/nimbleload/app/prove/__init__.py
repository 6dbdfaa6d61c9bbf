"""The page Prove: a rehearsal against the prediction."""
