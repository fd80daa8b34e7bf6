"""Sift: segments and their sieve."""
