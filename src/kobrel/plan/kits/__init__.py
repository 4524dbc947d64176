"""What is chosen from: lenses of a kit, and presets of the iris."""
