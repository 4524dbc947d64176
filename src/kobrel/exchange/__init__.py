"""Other people's formats, in and out."""
