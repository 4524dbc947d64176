"""Pull: focus over time."""
