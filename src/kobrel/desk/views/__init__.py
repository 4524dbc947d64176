"""The other views: maps, discs, mask, strip, and the column of shots."""
