"""Work that is not saved yet, on disk: every edit within a second, to be taken up after a crash."""
