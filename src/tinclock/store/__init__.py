"""What is kept on disk: recordings."""
