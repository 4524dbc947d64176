"""What follows from a plan: cameras, surveys, limits, tapes, lines of sight, speed of the focus."""
