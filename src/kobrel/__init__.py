"""Kobrel plans physically based depth of field for computer-made shots."""

import os

__version__ = "0.1.0"

# Libraries would load code from wherever these point to.
for _name in (
    "PXR_PLUGINPATH_NAME",
    "OPENIMAGEIO_PLUGIN_PATH",
    "OIIO_LIBRARY_PATH",
    "OTIO_PLUGIN_MANIFEST_PATH",
):
    os.environ.pop(_name, None)
