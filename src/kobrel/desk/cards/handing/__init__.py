"""The Hand over card."""
