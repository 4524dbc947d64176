"""Variants of a shot: alternatives kept with it, pictures kept of it, and ladders of one setting."""
