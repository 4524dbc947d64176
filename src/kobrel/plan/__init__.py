"""The plan: a frozen document, its file, and the one door from document to numbers."""
