"""One small function a check: (claim, work) -> Finding or None. The referee only puts them in order."""
