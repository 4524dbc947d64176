"""Plates: images, sequences and movies placed in space, and what is cut out of them."""
