"""Finished frames written with the blur of a shot."""
