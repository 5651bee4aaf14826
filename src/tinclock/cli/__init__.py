"""The commands. Thin: they read options, call the library and print."""
