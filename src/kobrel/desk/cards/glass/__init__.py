"""Glass: sensor, lens, stop, exposure and brief."""
