"""One small function a check: (claim, context) -> Finding or None. The referee only puts them in order."""
