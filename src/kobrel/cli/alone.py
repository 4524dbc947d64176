"""The environment of Kobrel's own process: without plug-ins. Imported before libraries look for them."""

import os

from kobrel import ignore_plugins

ignore_plugins()
# Kobrel brings no pydantic plugins; looking for some costs every start 50 ms.
os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "__all__")
