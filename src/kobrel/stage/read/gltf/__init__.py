"""Scenes from glTF 2.0: gltf and glb."""
