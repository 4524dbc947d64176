"""The plan: a frozen document, its file, and its edits, and the stage it stands for."""

import os

# Kobrel brings no pydantic plugins; looking for some costs every start 50 ms.
os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "__all__")
