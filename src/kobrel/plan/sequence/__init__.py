"""Shots one after the other: their order, cues and cuts."""
