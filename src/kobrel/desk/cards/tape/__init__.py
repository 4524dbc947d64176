"""Tape: distances and subjects."""
