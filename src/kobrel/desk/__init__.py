"""The window: Qt Widgets around the core."""
