"""Panels that open from a button of the window: cache, compare, the view's look, alts, the queue."""
