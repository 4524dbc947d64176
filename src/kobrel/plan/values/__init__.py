"""A shot in renderers' conventions: the values that they ask for, and back."""
