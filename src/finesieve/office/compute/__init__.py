"""Compute: derived fields."""
