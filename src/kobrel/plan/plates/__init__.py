"""Plates: flat pictures at distances, what is cut out of them and filled, and the dials that move them."""
