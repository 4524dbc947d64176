"""Backwards from what is wanted: briefs, trials and trade-offs."""
