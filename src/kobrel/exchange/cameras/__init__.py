"""Cameras of shots as files of other people's, and back."""
