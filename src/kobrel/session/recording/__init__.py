"""Values recorded by hand while the shot plays."""
