"""Numbers only: NumPy in, NumPy out, scalars or arrays alike.

Distances in the scene are metres, lens and sensor are millimetres, pictures are pixels;
every name carries its unit.
"""
