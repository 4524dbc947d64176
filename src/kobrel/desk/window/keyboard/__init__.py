"""Keys of the window: single keys, and editing by the clipboard."""
