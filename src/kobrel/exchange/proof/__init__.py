"""Proofs as files: pictures with the settings that made them, and contact sheets of them."""
