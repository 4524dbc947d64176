"""What stands before the camera: scene files, their motion, and ray queries.

Inside Kobrel every length is a metre, axes are right-handed with Y up, and cameras look
along -Z. Loaders convert once.
"""
