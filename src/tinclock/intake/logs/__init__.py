"""Matches that another server logged."""
