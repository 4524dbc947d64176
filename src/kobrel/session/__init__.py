"""What is worked on and chosen, how it is changed, and the way back. Knows no Qt."""
