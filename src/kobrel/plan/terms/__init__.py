"""A shot in everybody's terms: the values that renderers ask for, and back."""
