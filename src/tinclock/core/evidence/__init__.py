"""Evidence for or against an account: calibration, detectors, and tests that are valid at any time."""
