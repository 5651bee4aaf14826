"""What findings and play say for or against an account: weights, detectors, evidence to be looked at at any time."""
