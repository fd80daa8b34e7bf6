"""Segments and their meshes."""
