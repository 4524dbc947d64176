"""Kobrel plans physically based depth of field for computer-made shots.

For pipelines it gives :func:`open`, :func:`make`, :class:`Project`, :class:`Work` and :class:`KobrelError`:
see :mod:`kobrel.pipeline`.
"""

import importlib
import os
from typing import Any

__version__ = "0.1.0"

# Libraries would load code from wherever these point to.
for _name in (
    "PXR_PLUGINPATH_NAME",
    "OPENIMAGEIO_PLUGIN_PATH",
    "OIIO_LIBRARY_PATH",
    "OTIO_PLUGIN_MANIFEST_PATH",
):
    os.environ.pop(_name, None)

__all__ = ["KobrelError", "Project", "Work", "make", "open"]


def __getattr__(name: str) -> Any:
    """What pipelines use, loaded when it is first asked for."""
    if name in __all__:
        return getattr(importlib.import_module("kobrel.pipeline"), name)
    raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
