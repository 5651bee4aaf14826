"""Questions about rulings that were given: why, what nearly happened, what other rules would have said."""
