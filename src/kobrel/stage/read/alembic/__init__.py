"""Scenes from Alembic, read in a process of their own."""
