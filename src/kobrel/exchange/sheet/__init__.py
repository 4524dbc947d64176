"""The crew's sheet: what is needed on set, on paper and on a phone."""
