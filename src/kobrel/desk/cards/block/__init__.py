"""Block: what stands before the camera, the camera itself, and the light."""
