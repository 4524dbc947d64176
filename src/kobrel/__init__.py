"""Kobrel plans physically based depth of field for computer-made shots."""

__version__ = "0.1.0"
