"""The Barrel: the distance scale of a lens."""
