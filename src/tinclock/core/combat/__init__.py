"""Participants, weapons, fire rate, and the only place where health changes."""
