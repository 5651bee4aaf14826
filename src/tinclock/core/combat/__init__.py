"""Who takes part, what weapons do, when they may fire, and the only place where health changes."""
