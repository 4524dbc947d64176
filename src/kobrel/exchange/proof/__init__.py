"""Proofs as files: pictures with the settings that made them, contact sheets of them; thumbnails of plans."""
