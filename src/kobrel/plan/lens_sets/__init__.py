"""What is chosen from: lenses of a lens set, and presets of the iris."""
