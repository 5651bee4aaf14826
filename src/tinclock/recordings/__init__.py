"""Recordings: writing them, reading them, ruling them again."""
