"""What findings and play say for or against an account: weights, detectors, and evidence that may be looked at any time."""
