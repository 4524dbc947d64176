"""Rendered images written with the blur of a shot."""
