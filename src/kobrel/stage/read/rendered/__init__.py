"""Rendered images with depth: read, and made into a relief that stands in for a scene."""
