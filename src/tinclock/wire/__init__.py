"""What travels between server and clients, as bytes."""
