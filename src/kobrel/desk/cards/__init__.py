"""The cards on the window's right edge, in the order of the work."""
