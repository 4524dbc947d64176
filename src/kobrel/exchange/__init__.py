"""Other formats, read and written."""
