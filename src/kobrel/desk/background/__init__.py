"""Work beside the window: drawing, playing, files, devices."""
