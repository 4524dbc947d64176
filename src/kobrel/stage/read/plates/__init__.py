"""Reading pictures for plates: still ones with pages, parts or layers, sequences and movies."""
