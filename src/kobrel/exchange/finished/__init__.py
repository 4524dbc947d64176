"""Finished frames with depth: read, and written with their blur."""
