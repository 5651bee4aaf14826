"""From a claim to its ruling: commands, the order of steps, the checks, and one module for each kind of claim."""
