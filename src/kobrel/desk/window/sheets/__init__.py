"""Sheets over the window: what is asked or told at leisure."""
