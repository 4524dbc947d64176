"""Scene files, read and checked."""
