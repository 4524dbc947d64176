"""Small programs that stand in for outside devices, over the protocols that real ones would use."""
