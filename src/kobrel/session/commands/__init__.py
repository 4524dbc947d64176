"""What a person can do to a plan, whichever view or card asks for it."""
