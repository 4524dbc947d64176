"""The plan: a frozen document, its file, and its edits, and the stage it stands for."""
