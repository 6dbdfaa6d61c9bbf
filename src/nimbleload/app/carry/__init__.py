"""The place where a plan is carried out."""
