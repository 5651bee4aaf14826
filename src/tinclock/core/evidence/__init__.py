"""Evidence for or against an account from findings and play: weights, detectors, tests that are valid at any time."""
