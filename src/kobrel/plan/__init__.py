"""The plan: a frozen document, its file, and the one door from document to numbers."""

import os

# Kobrel brings no pydantic plugins; looking for some costs every start 50 ms.
os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "__all__")
