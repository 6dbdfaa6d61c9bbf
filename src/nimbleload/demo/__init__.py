"""The example session and its sample cost cards, made by code."""
