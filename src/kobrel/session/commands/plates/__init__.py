"""Commands for plates: placing, cutting out, and the dials that drive them."""
