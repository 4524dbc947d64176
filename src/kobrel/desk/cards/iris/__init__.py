"""Iris: the shape of blur."""
