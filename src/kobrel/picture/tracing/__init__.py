"""The tracer's compiled kernels: lens, surfaces, light."""
