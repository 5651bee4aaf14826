"""Meshes, characters and clips from glTF and OBJ files."""
