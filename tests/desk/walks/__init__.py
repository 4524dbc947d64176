"""Whole jobs from nothing to what leaves the house, through several rooms, each on material of its own."""
