"""Plates for finishing elsewhere: their numbers, and each one blurred alone."""
