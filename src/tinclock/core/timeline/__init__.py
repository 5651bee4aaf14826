"""Clock estimates, views, the pose history and rewinding it."""
