"""The process that servers in other languages talk to."""
