"""Picture: through the lens."""
