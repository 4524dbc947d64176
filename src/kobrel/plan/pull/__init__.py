"""Focus over time: interpolation between keys, marks, and performed pulls."""
