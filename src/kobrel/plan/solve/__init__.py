"""Backwards from what is wanted: briefs, candidates and trade-offs."""
