"""The wall: kept pictures and ladders, all at once or against each other."""
