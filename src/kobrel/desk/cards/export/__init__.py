"""Export: values in renderers' conventions, files, the camera sheet; and values that come back."""
