"""The ray engine, and meshes made ready for it."""
