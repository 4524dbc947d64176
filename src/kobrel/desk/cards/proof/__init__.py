"""The Proof card: pictures to keep, to compare and to play."""
