"""Writing files: whole or not at all."""
