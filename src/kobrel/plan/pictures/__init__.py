"""Pictures that a plan works on: rendered images with their depth."""
