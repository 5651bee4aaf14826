"""Compiled checks, one small function each. In which order a claim takes them stands in `ruling.procedures`."""
