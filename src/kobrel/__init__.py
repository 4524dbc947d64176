"""Kobrel plans physically based depth of field for computer-made shots.

For pipelines it gives :func:`open`, :func:`make`, :class:`Project`, :class:`Work`, :class:`KobrelError`, see
:mod:`kobrel.pipeline`, and :func:`ignore_plugins`. Importing it leaves the environment as it is.
"""

import importlib
import os
from typing import Any

__version__ = "0.2.0"

__all__ = ["KobrelError", "Project", "Work", "ignore_plugins", "make", "open"]
_PLUGIN_PATHS = (
    "PXR_PLUGINPATH_NAME",
    "OPENIMAGEIO_PLUGIN_PATH",
    "OIIO_LIBRARY_PATH",
    "OTIO_PLUGIN_MANIFEST_PATH",
)


def ignore_plugins() -> None:
    """Take out of this process's environment, and so of its children's, the paths from which USD,
    OpenImageIO and OpenTimelineIO would load plug-ins: they are code. The window and the command line do
    so; a program that opens strangers' files may, before it imports those libraries.
    """
    for name in _PLUGIN_PATHS:
        os.environ.pop(name, None)


def __getattr__(name: str) -> Any:
    """What pipelines use, loaded when it is first asked for."""
    if name in __all__:
        return getattr(importlib.import_module("kobrel.pipeline"), name)
    raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
