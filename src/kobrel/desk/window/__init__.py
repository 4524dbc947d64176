"""The window: application, menus, layout, tabs, dialogs, and the file in work."""
