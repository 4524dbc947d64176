"""Devices that give distances or turn the focus, read beside the window."""
