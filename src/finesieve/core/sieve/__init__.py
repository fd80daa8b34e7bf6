"""Segments as sieves: meshes, and what each lets pass, catches or cannot tell."""
