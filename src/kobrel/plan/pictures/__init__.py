"""Pictures that a plan works on: finished frames with their depth."""
