"""What views and cards share: theme, painting, panels, gestures, fields, scales."""
