"""Blur for pictures that are finished: from their colours and depth alone, with occlusion."""
