"""The Proof card: pictures to play, and to compare."""
