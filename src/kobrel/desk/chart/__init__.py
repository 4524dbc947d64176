"""The Pull chart: focus over the frames of the shot."""
